"""The formula language: arithmetic on named quantities, checked before it is evaluated. No formula
can run code.
"""
