"""Cadrel: commission servo axes, from the data sheet to the proof.

core/        computation only: no Django, no files, no sockets
link/        how a drive is spoken to: the wire, the client, the in-process client
bench/       the stand-in drive, a process of its own
procedures/  phasing, identification, tuning, test moves; they talk only to the link
exchange/    open file formats in and out
web/         the Django project
cli/         headless use and the commands of bin/cadrel
"""
