"""Open formats: one module or package each, listed in ``registry``."""
