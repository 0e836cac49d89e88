"""The built-in engine: passes over a medium, findings in a scan file, files brought back to another place.

`scan` runs the passes (`layout`, `tables`, `content`), `findings` is the scan file, `judge` says how sure a finding is
and why, `extract` writes files. Nothing here knows of specimens, their truth, or scores.
"""
