"""The heart of the job as pure functions: values in, values out.

Never reads a clock, file, socket or global random state, and knows no Django. Start reading at
`journeys.model`.
"""
