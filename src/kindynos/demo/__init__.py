"""Demo data of Larkholm Ferries, an invented company."""
