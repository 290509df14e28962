"""A report as a workbook, with cells that stay alive."""
