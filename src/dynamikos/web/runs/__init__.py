"""Runs: started and stopped here, read here.

Never judges or expands (the coordinator does). Start reading at `models`.
"""
