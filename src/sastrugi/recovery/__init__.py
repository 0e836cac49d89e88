"""The built-in engine: passes over a medium, findings in a scan file, files brought back to another place.

`scan` runs the passes (`layout`, `tables`, `relics`, `content`) within its `limits`, `findings` is the scan file,
`judge` says how sure a finding is and why, `extract` writes files. `lives` works out earlier lives for `relics`,
`pieces` puts files together, `bins` reads names from the bin. Nothing here knows of specimens, their truth, or scores.
"""
