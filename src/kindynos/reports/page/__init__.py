"""Pages: a result as one file that a browser opens without a network."""
