"""What could not be taken in: counted, and the first of it shown."""

from msgspec import Struct, field

SHOWN, WIDE = 5, 120


class Bad(Struct):
    """Lines that say nothing that can be taken in: how many, and the first few with their numbers."""

    count: int = 0
    first: list[tuple[int, str]] = field(default_factory=list)

    def note(self, number: int, line: bytes | str, because: str = "") -> None:
        """Notes a line, and what is wrong with it."""
        self.count += 1
        if len(self.first) < SHOWN:
            text = line.decode("utf-8", "replace") if isinstance(line, bytes) else line
            shown = "".join(one if one.isprintable() else "�" for one in text.strip())[:WIDE]
            self.first.append((number, f"{shown}: {because}" if because else shown))
