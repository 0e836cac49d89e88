"""Specimens: media with a truth that knows every file ever laid down on them.

`recipe` is the text a specimen is built from (of `recipe_types`), `steps` what it can ask for, `formats` the file
systems. `build` carries the steps out on a `builder`, which knows what was laid down (`laid_files`) and what of it
still stands (`write_tracker`), and `truth_writer` writes it down. `truth` is what the bench knows afterwards, `ceiling`
how much could come back, `audit` checks it all, `medium_check` tells whether a medium is still the one that was
described.

Where another writer laid a medium down, nothing is known but its content: `locate` finds it by its `blocks`,
`observed_truth` makes the truth from what stands. `adopt` does so for images from elsewhere; `os_writer` repeats the
steps through the operating system, told by the builder as a `second_writer`.
"""
