"""Showing what the core computed: as text for people, as JSON for programs. Computes nothing."""
