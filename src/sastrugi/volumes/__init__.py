"""File systems: one folder each, with `layout` (records on disk), `write`, `read` and `sector_tests`; its `__init__`
declares it, and `registry` finds all of them.

`reader` is what all readers answer with, `writer` what all writers offer, `probing` finds the one for a place.
`metadata_scan` finds folders anywhere by their shape, `orphan_folders` reads them, `record_peek` reads a single record.
What FAT and exFAT share is in `_fat_family`.
"""
