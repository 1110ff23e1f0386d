"""The tests. `python -m tests` runs them all and closes with a line of counts.

Generated cases are the same each time, unless NOSTOS_EXAMPLES asks for more: then they are new ones.
"""

import os

from hypothesis import HealthCheck, settings

# How quick a machine is, with other tests beside, says nothing of the code.
settings.register_profile("nostos", derandomize="NOSTOS_EXAMPLES" not in os.environ, deadline=None,
                          suppress_health_check=[HealthCheck.too_slow])
settings.load_profile("nostos")
