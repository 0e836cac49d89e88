"""Specimens: media with a truth that knows every file ever laid down on them.

`recipe` is the text a specimen is built from, `steps` what it can ask for, `formats` the file systems. `build` carries
the steps out on a `laying`, which keeps the books (`remains`: what still lies where, `lain`: what was laid down), and
`papers` writes them down. `truth` is what the bench knows afterwards, `ceiling` how much could come back, `audit`
checks it all.

Where another writer laid a medium down, nothing is known but its content: `locate` finds it by its `blocks`, `looked`
makes the truth from what stands. `adopt` does so for images from elsewhere; `driver` repeats the steps through the
operating system, told by the laying as a `mirror`.
"""
