"""Virtual users that perform journeys and measure: asyncio, clock, network and sink passed in.

Never knows Django or a database. Start reading at `runner`.
"""
