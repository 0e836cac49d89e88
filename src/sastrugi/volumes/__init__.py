"""File systems: one folder each, with `layout` (records on disk), `write` and `read`.

`base` holds what all readers answer with. A file system registers itself by being listed in `READERS`.
"""
