"""Several amounts in one trial, such as the claims of a year: drawn, cut into layers, added up."""
