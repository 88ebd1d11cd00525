"""DICOM files (PS3.3, PS3.5, PS3.10), read: single images, many frames, series in a folder."""
