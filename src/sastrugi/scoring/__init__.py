"""Scores: which result answers for which reference file, how much of it is right, and what that makes in all.

`results` reads a folder of files or a scan file (`elsewhere`: one that was copied from another computer), `candidates`
finds what each may come from (by place, by digest, by the `block_index`), `matching` assigns them one to one, `names`,
`claimed_extents` and `times` compare what else is told, `scorer` says it file by file, and `scorecard` and `groups`
hold verdicts and figures. `reading` reads scorecards of earlier versions, `paired` compares them.
"""
