"""The stand-in application: Brindle Fell Observatory, a server whose capacity is known by
construction.

Shares no code with dynamikos, so that agreement can't come from a shared mistake. Start reading at
`resources`, then `app`.
"""
