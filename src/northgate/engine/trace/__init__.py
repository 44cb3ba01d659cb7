"""One request followed to its end, or many, and every way that they can take."""

from northgate.engine.trace.answer import Candidate, Outcome, TraceAnswer
from northgate.engine.trace.history import History
from northgate.engine.trace.probe import trace_probe
from northgate.engine.trace.question import Question
from northgate.engine.trace.trace import trace

__all__ = [
    "Candidate",
    "History",
    "Outcome",
    "Question",
    "TraceAnswer",
    "trace",
    "trace_probe",
]
