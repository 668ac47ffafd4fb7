"""Tests of the service. A package, since a benchmark has the same name."""
