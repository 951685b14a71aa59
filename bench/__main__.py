"""`python -m bench [FIGURE ...]`: one figure a line, each a ratio against a reference in the same run."""

from __future__ import annotations

import sys

from bench import figures

if __name__ == "__main__":
    wanted = sys.argv[1:]
    for name, figure in figures.FIGURES.items():
        if not wanted or name in wanted:
            try:
                told = figure()
            except FileNotFoundError as error:  # a program to measure against that is not installed
                told = f"not measured: {error.filename} is missing"
            print(f"{name:<12} {told}", flush=True)
