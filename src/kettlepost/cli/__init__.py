"""The command line: each command parses, calls the core, hands to render, and sets the exit status."""

from kettlepost.cli.app import main

__all__ = ["main"]
