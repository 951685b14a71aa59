"""Kettlepost: which address reaches which folder, and what gets in the way."""

__version__ = "0.1.0"
