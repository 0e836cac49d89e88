"""FAT12, FAT16 and FAT32, after Microsoft's "FAT File System Specification" (version 1.03, 2000).

`layout` declares the records, `write` lays volumes down, `read` reads them; the two share only `layout`.
"""
