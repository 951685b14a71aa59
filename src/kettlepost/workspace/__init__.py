"""The plan folder as it lies on disk, and one function for each thing a user does with it."""
