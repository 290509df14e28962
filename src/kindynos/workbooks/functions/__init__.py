"""The functions of formulas, in files by kind; ``registry`` says how one is added."""
