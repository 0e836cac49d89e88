"""What keeps an engine from doing harm.

`supervisor` is the process between the bench and an engine. `starting` starts the engine in namespaces, `view` builds
what it sees of the system, and `powers` takes away what it may ask of the kernel (capabilities, Landlock, seccomp).
`processes` and `disk_use` tell what it takes, `cgroups` limits that. `kernel` holds the calls that all of them need.
Nothing here imports more than the standard library: the supervisor must start at once.
"""
