"""What is there already, taken into a plan: access logs become clients, zone files names, and tables machines."""

from northgate.intake.files import FORMS, MOST_BYTES, OF_TEXT, clients_of, take_in, text_in
from northgate.intake.logs import LogReader
from northgate.intake.taken import TakenIn

__all__ = ["FORMS", "MOST_BYTES", "OF_TEXT", "LogReader", "TakenIn", "clients_of", "take_in", "text_in"]
