"""What keeps an engine from doing harm.

`supervisor` is the process between the bench and an engine, `view` builds what the engine sees of the system, `powers`
takes away what it may ask of the kernel (capabilities, Landlock, seccomp), `cgroups` limits what it may take, and
`kernel` holds the calls that all of them need. Nothing here imports more than the standard library: the supervisor must
start at once.
"""
