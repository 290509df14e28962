"""Tests of the reader of tables."""
