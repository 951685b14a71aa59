"""Programs that the tool writes for other machines, as they are run there."""
