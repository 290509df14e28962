"""What is printed and written: figures in words, tables on a terminal, files."""
