"""File systems: one folder each, with `layout` (records on disk), `write`, `read` and `relics`.

`base` holds what all readers answer with, `probing` finds the one for a place, `writing` is what all writers offer;
`relics` finds folders anywhere by their shape, `loose` reads them. `reading`, `entry_tables`, `chains` and `clusters`
are what FAT and exFAT share. `looking` reads a single record.
"""
