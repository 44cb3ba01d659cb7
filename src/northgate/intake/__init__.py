"""What is there already, taken into a plan: access logs become clients, zone files names, and tables machines."""

from northgate.intake.files import FORMS, TakenIn, take_in

__all__ = ["FORMS", "TakenIn", "take_in"]
