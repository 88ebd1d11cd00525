"""The command line: commands parse, call the public face, and print. Nothing is computed here."""
