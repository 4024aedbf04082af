"""Load plans.

Never computes load (core does). Start reading at `models`.
"""
