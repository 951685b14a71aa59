"""The part that computes: no printing, no clock, no environment, no interface."""
