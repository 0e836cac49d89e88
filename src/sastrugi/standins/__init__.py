"""Two small programs that stand for recovery programs under test, so that the bench can be tried with no other
software.

They are no part of the bench: it calls them by their commands, as it would any other, and neither can see a truth.
"""
