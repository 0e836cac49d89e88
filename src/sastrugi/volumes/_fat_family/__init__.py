"""What FAT and exFAT share: folders that are tables of 32-byte entries, and clusters that are counted from 2.

`reader` and `writer` are built upon by both, `fat_table` keeps chains, `names` says what names there can be.
"""
