"""One module a sub-command; each has a click command named `command`."""
