"""`python -m wadi` is the command `wadi`."""

from wadi.cli.main import entry

if __name__ == "__main__":
    entry()
