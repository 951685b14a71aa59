"""Data: known applications (`applications/*.toml`) and placeholder pages."""
