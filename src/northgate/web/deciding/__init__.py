"""Endpoints for those who decide: variants, sweeps, comparing, rehearsing, agreeing, handing over."""
