"""Files made to hurt, thousands of them: see ``python -m fuzzing --help``."""
