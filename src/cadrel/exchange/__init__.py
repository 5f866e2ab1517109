"""Reading and writing open formats. docs/formats describes each.

errors.py      FileProblem: path and sentence
axis_file.py   AXIS.json: what the engineer knows
rig_file.py    RIG.json: the truth a bench is built from
result_file.py RESULT.json: what commissioning gave
csv_file.py    recorded runs as CSV
universal_file.py frequency responses, dataset 58
record_file.py a motor or feedback device of the library, JSON; a motor as CSV
schemas.py     JSON Schema (2020-12) of each, generated from the registry
"""

from cadrel.exchange.axis_file import axis_document, read_axis
from cadrel.exchange.csv_file import recording_csv
from cadrel.exchange.errors import FileProblem
from cadrel.exchange.record_file import (
    RecordFile,
    motor_csv,
    read_motor_csv,
    read_record,
    record_document,
    record_keys,
)
from cadrel.exchange.result_file import result_document
from cadrel.exchange.rig_file import read_rig
from cadrel.exchange.schemas import axis_schema, record_schema, result_schema, rig_schema
from cadrel.exchange.universal_file import NamedResponse, response_uff

__all__ = [
    "FileProblem",
    "NamedResponse",
    "RecordFile",
    "axis_document",
    "axis_schema",
    "motor_csv",
    "read_axis",
    "read_motor_csv",
    "read_record",
    "read_rig",
    "record_document",
    "record_keys",
    "record_schema",
    "recording_csv",
    "response_uff",
    "result_document",
    "result_schema",
    "rig_schema",
]
