"""The engine's busiest modules as machine code: compiled from their Python sources by mypyc, where
a compiler is there.

They stay ordinary Python: without machine code, or with one made from other sources, they are
interpreted, and do the same, slower.
"""
