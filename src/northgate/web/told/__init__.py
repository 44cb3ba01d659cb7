"""How answers and refusals are written: their models, and which errors are told as which problems."""
