"""`python -m sastrugi`."""

from sastrugi.cli import main

main()
