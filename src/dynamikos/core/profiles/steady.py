"""What a level of load needs before anything is told of it, and how many of them a curve of
capacity needs.
"""

SETTLES_S = 10.0  # or two rounds: so long after a change the load is not taken for steady
STEADY_S, FEWEST_ROUNDS = 30.0, 10
# with six levels AICc asks so much for a third parameter that the law that turns down could never
# be named
LEVELS = 8
