"""Motors and feedback devices that axes start from.

models.py    Record, its immutable Revisions, and which axis uses which
actions.py   keep, copy, revise, take into an axis, import
views.py     pages
"""
