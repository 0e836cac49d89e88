"""The bytes of a medium: how to read them, write them, and where the partitions are.

`base` is the reader interface that every container implements, `raw` the image file (or device) with holes,
`containers` the others; `opening` turns a path into a reader, `faults` lets an image fail as a device would, `capture`
and `convert` make images of media. `partitions` reads and writes partition tables, `extents` are runs of bytes, and
`filemap` tells where the bytes of a file lie.
"""

from sastrugi.media.base import Medium
from sastrugi.media.extents import Extent, RangeSet
from sastrugi.media.filemap import FileMap
from sastrugi.media.opening import open_medium

__all__ = ["Extent", "FileMap", "Medium", "RangeSet", "open_medium"]
