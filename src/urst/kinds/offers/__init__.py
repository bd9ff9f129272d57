"""What layers offer each other: for each matter the facts a reader may plan with, and what it is fed.

A kind that offers something gives its facts from the document (`Kind.facts`) and turns its frames into the offer's
arrays (`Kind.outputs`). Readers know offers, never the kinds behind them.
"""
