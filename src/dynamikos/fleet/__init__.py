"""Where the engine meets the database and the job engine: coordinator and generator.

Never renders. Start reading at `generator` and `coordinator.loop`.
"""
