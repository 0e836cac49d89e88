"""exFAT, after Microsoft's "exFAT file system specification" (revision 1.00, 2019).

`layout` declares the records, `write` lays volumes down, `read` reads them; the two share only `layout`.
"""
