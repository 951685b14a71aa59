"""`python -m kettlepost`."""

from kettlepost.cli import main

main()
