"""What a finished run says by itself: findings, suspects, capacity.

Pure computation over arrays by second of the run. Start reading at `evidence`.
"""
