"""How work is done: bytes, threads, bounded memory, caches. Knows no formats and no colours."""
