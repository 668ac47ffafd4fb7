"""The service: an HTTP API and a board over the pipeline. Thin: what is done is done by the rooms
below.
"""
