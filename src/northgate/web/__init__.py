"""The web application: thin routers over the engine and the store."""
