"""Django's own commands; `./dynamikos shell` sets the environment they need."""

import os
import sys

from django.core.management import execute_from_command_line

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "dynamikos.web.settings")

if __name__ == "__main__":
    execute_from_command_line(sys.argv)
