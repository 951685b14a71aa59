"""What is taken out of the way: prepared, moved into a store in the home with a record, listed, put back, deleted."""
