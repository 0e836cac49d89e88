"""Reference files: made-up ones of every kind (`make`) under names of a style (`names`)."""
