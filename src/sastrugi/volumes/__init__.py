"""File systems: one folder each, with `layout` (records on disk), `write` and `read`.

`base` holds what all readers answer with and finds the one for a place (`probe`), `writing` what all writers offer;
`reading`, `entry_tables`, `chains` and `clusters` are what FAT and exFAT share. `looking` reads a single record.
"""
