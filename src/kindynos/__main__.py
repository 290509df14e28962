"""``python -m kindynos`` is the command line."""

from kindynos.cli import main

if __name__ == "__main__":
    main()
