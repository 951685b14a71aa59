"""Where a new installation could go, and what each choice would bring."""
