"""Drives and inputs: protocols of a few verbs, simulated stand-ins and the real Linux back ends."""
