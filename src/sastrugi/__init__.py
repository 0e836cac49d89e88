"""Sastrugi: a test bench for file recovery.

Build reference media with known losses, run recovery scans against them, and score exactly what came back.
"""

__version__ = "0.1.0"
