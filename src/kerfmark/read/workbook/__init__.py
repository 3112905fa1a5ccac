"""Workbooks: `sheets` reads them; `xml_parts`, `binary_parts` and `opendocument` look into the
parts of a workbook for what the library does not tell; `sandbox` opens a doubtful one in a process
of its own."""
