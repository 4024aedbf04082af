"""When users start and leave.

Never performs them. Start reading at `company`.
"""
