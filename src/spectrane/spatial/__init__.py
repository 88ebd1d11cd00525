"""Sources made from sources: parts, and the same pixels described anew."""
