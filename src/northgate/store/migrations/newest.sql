CREATE TABLE alembic_version (
	version_num VARCHAR(32) NOT NULL, 
	CONSTRAINT alembic_version_pkc PRIMARY KEY (version_num)
);
INSERT INTO "alembic_version" VALUES('0005');
CREATE TABLE "plan" (
	id INTEGER NOT NULL, 
	"key" VARCHAR NOT NULL, 
	current INTEGER NOT NULL, 
	agreed INTEGER, 
	created_at DATETIME DEFAULT CURRENT_TIMESTAMP NOT NULL, deleted BOOLEAN DEFAULT '0' NOT NULL, origin INTEGER, variant TEXT, 
	PRIMARY KEY (id), 
	UNIQUE ("key")
);
CREATE TABLE revision (
	id INTEGER NOT NULL, 
	plan_id INTEGER NOT NULL, 
	number INTEGER NOT NULL, 
	document TEXT NOT NULL, 
	source TEXT, 
	created_at DATETIME DEFAULT CURRENT_TIMESTAMP NOT NULL, parent INTEGER, reason TEXT, splices INTEGER DEFAULT '0' NOT NULL, depth INTEGER DEFAULT '0' NOT NULL, 
	PRIMARY KEY (id), 
	UNIQUE (plan_id, number), 
	FOREIGN KEY(plan_id) REFERENCES "plan" (id) ON DELETE CASCADE
);
CREATE TABLE standing (
	id INTEGER NOT NULL, 
	plan_id INTEGER NOT NULL, 
	number INTEGER NOT NULL, 
	agreed BOOLEAN NOT NULL, 
	who TEXT NOT NULL, 
	why TEXT NOT NULL, 
	created_at DATETIME DEFAULT CURRENT_TIMESTAMP NOT NULL, 
	PRIMARY KEY (id), 
	FOREIGN KEY(plan_id) REFERENCES "plan" (id) ON DELETE CASCADE
);
CREATE INDEX revision_tree ON revision (plan_id, number, parent);
CREATE INDEX ix_standing_plan_id ON standing (plan_id);
CREATE INDEX revision_made_of ON revision (plan_id, parent);
