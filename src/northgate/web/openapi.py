"""Prints the OpenAPI description of the server, from which the front end's types are generated."""

import json
import tempfile
from pathlib import Path
from typing import Any

from northgate.store.repository import Repository
from northgate.web.app import make_app


def described() -> dict[str, Any]:
    """The description, as JSON has it."""
    with tempfile.TemporaryDirectory() as folder:
        repository = Repository(Path(folder) / "none.sqlite")
        made = make_app(repository).openapi()
        repository.close()
    return made


def main() -> None:
    """Prints the description as JSON."""
    print(json.dumps(described(), indent=1))


if __name__ == "__main__":
    main()
