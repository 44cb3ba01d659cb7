"""How long tests wait for what takes its time: a slow machine may have a tenth of a core. What is waited for either
comes, or never does."""

WAIT_S = 60
WAIT_MS = WAIT_S * 1000
