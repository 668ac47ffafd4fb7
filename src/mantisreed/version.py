"""The version of this release."""

__version__ = "0.1.0"
