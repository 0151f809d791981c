"""Commands of the command line that work on a data folder or a whole folder of files."""
