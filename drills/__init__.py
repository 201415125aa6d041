"""Drills: what happens to somebody's work when programs are killed, disks are full and files are bad.

`python -m drills` runs them at length and leaves a folder of results; `tests/drills` runs a little of each.
"""
