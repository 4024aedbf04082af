"""What addresses of runs do.

Start reading at `pages`.
"""
