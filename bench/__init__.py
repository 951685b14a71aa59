"""Speed as ratios against a reference in the same run."""
