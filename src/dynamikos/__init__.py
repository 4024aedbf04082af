"""Dynamikos: scripts journeys of virtual users, runs them as load, and reads what came back.

Imported for one side effect: the engine's busiest modules are taken as machine code where that was
made (`machine`). Start reading at `dynamikos.core` (values), then `engine`, `fleet`, `web`, `cli`.
"""

from dynamikos.machine.loading import use

use()
