"""What the built front end loads before anything is seen."""

import gzip
import re

from northgate.web.door.pages import STATIC

MOST_BYTES = 120_000


def test_the_first_view_loads_little_script():
    page = (STATIC / "index.html").read_text(encoding="utf-8")
    scripts = re.findall(r'(?:src|href)="/(assets/[^"]+\.js)"', page)
    assert {one.split("/")[1].split("-")[0] for one in scripts} >= {"index", "base"}
    assert sum(len(gzip.compress((STATIC / one).read_bytes())) for one in scripts) < MOST_BYTES
