"""`python -m nostos` is the command `nostos`."""

from nostos.cli.main import run

if __name__ == "__main__":
    run()
