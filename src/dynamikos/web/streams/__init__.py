"""Server-sent events: ids and permissions only.

Never renders. Start reading at `broker`.
"""
