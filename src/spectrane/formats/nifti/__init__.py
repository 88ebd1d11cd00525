"""NIfTI-1 and NIfTI-2: volumes with a place in the patient."""
