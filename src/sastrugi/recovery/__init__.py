"""The built-in engine: passes over a medium, findings in a scan file, files brought back to another place.

`scan` runs the `passes` within its `limits`, on the `context` that they share; `findings` is what they add to the
`scan_file`, `confidence` says how sure a finding is and why, `extract` writes files. `previous_volumes` works out
earlier lives for `relics`, `reassembly` puts pieces together, `journals` asks volumes for their history, `bins` reads
names from the bin. Nothing here knows of specimens, their truth, or scores.
"""
