"""`python -m northgate` and `northgate` are the command line."""

from northgate.loading import loading


def main() -> None:
    """Loads the command line and runs it."""
    with loading():
        from northgate.cli import main as run
    run()


if __name__ == "__main__":
    main()
