"""The demo scenario: Halse Sound, an inlet that exists nowhere, made by code from one seed."""
