"""`python -m bench [FIGURE ...]`: one figure a line, each a ratio against a reference in the same run."""

from __future__ import annotations

import sys

from bench import figures

if __name__ == "__main__":
    wanted = sys.argv[1:]
    for name, figure in figures.FIGURES.items():
        if not wanted or name in wanted:
            print(f"{name:<10} {figure()}", flush=True)
