"""The live view: see the picture while it is changed, in a browser on this machine."""
