"""Proposing engine cards from what API pages print: curl commands, OpenAPI documents, sample
replies.
"""
