"""Specimens: media with a truth that knows every file ever laid down on them.

`recipe` is the text a specimen is built from, `build` carries its steps out, `remains` keeps the books of what still
lies where, `truth` is what the bench knows afterwards, `ceiling` how much could come back, `audit` checks it all.
"""
