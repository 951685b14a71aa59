"""The command line: each command parses, calls the core, hands to render, and sets the exit status."""

import signal

__all__ = ["main"]


def main() -> None:
    """Run the program on the arguments it was called with; interrupted, it says no more, from its first line on."""
    try:
        from kettlepost.cli.app import main as run

        run()
    except KeyboardInterrupt:
        raise SystemExit(128 + signal.SIGINT) from None
