"""``python -m direkt`` is the same as ``direkt``."""

from direkt.cli.main import main

main()
