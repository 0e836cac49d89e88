"""Scores: which result answers for which reference file, how much of it is right, and what that makes in all.

`results` reads a folder of files or a scan file, `bytes_route` and `extents_route` find candidates in two independent
ways, `matching` assigns them one to one, `names` compares names, `scorecard` holds verdicts and figures.
"""
