"""Buses: traces to words and back, one module a bus, the same two verbs (decode, encode) in each."""
