"""The command line: one command a file, each thin: read the words, call the core, show what it says."""
