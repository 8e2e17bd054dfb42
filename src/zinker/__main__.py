"""`python -m zinker` is the command `zinker`."""

from zinker.cli.main import run

if __name__ == "__main__":
    run()
