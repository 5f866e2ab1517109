"""The commands of bin/cadrel.

main.py        names the commands and hands over
commission.py  commission an axis from a file against a bench from a file
benchmark.py   ratios of performance, measured in one run
vendor.py      refresh the shipped scripts, styles and fonts from the npm registry
"""
