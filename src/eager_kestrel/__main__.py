"""``python -m eager_kestrel`` is the command line."""

from eager_kestrel.cli.main import main

main()
