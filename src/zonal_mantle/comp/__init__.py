"""comp."""
