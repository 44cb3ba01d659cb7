"""One request followed to its end, or many, and every way that they can take."""

from northgate.engine.trace.answer import Candidate, Outcome, TraceAnswer
from northgate.engine.trace.history import Story
from northgate.engine.trace.probe import trace_probe
from northgate.engine.trace.question import Question
from northgate.engine.trace.trace import trace

__all__ = [
    "Candidate",
    "Outcome",
    "Question",
    "Story",
    "TraceAnswer",
    "trace",
    "trace_probe",
]
