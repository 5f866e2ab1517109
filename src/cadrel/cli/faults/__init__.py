"""`bin/cadrel evidence faults`: parts of a running application killed, frozen, cut off, hundreds of times.

rigged.py     the demonstration in processes of its own, and its parts by name
episode.py    one fault in one situation: what the drive did, what the page said, what was lost
faults.py     the faults: what is done to which part, and what must hold then
evidence.py   the draw, the table, the document; start reading here
"""
