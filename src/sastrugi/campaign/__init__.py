"""Many specimens, many programs, one build against the last.

`engines` says what can be put to the test and how it is called, `running` and `sandbox` run it within limits and
measure it, `handing` hands a medium out and tells what became of it, `trial` and `by_hand` make one trial with a record
(`record`), `sides` finds what is compared, `trends` what became of figures, `matrix`, `parameters` and `specimens` say
what a campaign is made of, `run` and `work` carry it out (`local` here, `cluster` elsewhere), and `ledger` keeps
every trial.
"""
