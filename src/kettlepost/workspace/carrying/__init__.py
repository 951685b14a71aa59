"""Steps in the files of an account, carried out by the program, with a way back."""
