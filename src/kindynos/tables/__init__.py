"""Reading tables: one reader for CSV, workbooks, Parquet files and DataFrames.

``files`` opens a file within limits, ``layout`` finds separator, titles, names and units, ``cells``
says what a text means, ``table`` holds the columns, and ``reader`` puts them together.
"""
