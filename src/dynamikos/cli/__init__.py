"""The command line, a file a command.

Never holds rules of the job: those are in core, engine and fleet. Start reading at `__main__`.
"""
