"""The made-up world all sample data come from: the field season of the Firnline glaciology station.

`dice` draws everything from a seed, the same on every machine; `season` holds the words.
"""
