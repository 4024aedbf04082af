"""What a virtual user is: the compiled journey, its state, and the performer that awaits.

Never measures by itself: it tells the recorder. Start reading at `compiled`, then `performer`.
"""
