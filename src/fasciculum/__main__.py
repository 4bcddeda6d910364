"""``python -m fasciculum`` is the command line."""

from fasciculum.cli.main import main

if __name__ == "__main__":
    raise SystemExit(main())
