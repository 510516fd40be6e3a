"""Faults made on purpose: kills, full disks, two tabs, long runs, mutated files, hostile names.

`make campaign` runs all of it, bounded and repeatable by seed, and writes docs/reliability.md; short forms are part of
the tests.
"""
