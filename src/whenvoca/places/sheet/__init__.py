"""Sheets: .xlsx, .xlsm and .csv, read as a whole and written cell by cell."""
