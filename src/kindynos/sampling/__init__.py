"""Random streams and sampling plans."""
