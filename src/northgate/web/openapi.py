"""Prints the OpenAPI description of the server, from which the front end's types are generated."""

import json
import tempfile
from pathlib import Path

from northgate.store.repository import Repository
from northgate.web.server import make_app


def main() -> None:
    """Prints the description as JSON."""
    with tempfile.TemporaryDirectory() as folder:
        repository = Repository(Path(folder) / "none.sqlite")
        print(json.dumps(make_app(repository).openapi(), indent=1))
        repository.close()


if __name__ == "__main__":
    main()
