"""What drives an outcome: a file for each method, and ``methods`` that lists them."""
