"""Tests that come along for whoever adds a format: subclass, supply files, run pytest.

``ReaderTests`` hold a reader to what every reader promises, ``WriterTests`` a writer. Our own
formats run them too. They need pytest, which brings ``tmp_path`` and ``monkeypatch``.
"""

from spectrane.testing.readers import Example, ReaderTests
from spectrane.testing.writers import WriterTests

__all__ = ["Example", "ReaderTests", "WriterTests"]
