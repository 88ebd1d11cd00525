"""The version, in one place."""

VERSION = "0.1.0"
