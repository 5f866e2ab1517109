"""Procedures on their way through the worker.

models.py     Job: one start of a procedure, as the pages see it; start reading here
running.py    Job -> Assignment -> Ending: the run itself, which needs no database
spool.py      an Ending on disk until the database has it
recording.py  Ending -> rows, whole or not at all
worker.py     the process: takes what is queued within a moment, outlives its database
patience.py   try again while the database is away
"""
