"""Scores: which result answers for which reference file, how much of it is right, and what that makes in all.

`results` reads a folder of files or a scan file, `candidates` finds what each may come from (by place, by digest, by
`witnesses`), `matching` assigns them one to one, `names`, `places` and `times` compare what else is told, `judgement`
says it file by file, and `scorecard` and `groups` hold verdicts and figures.
"""
