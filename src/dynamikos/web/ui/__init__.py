"""The base page, its parts, the drawings' scripts, and the registries of the spine and the command
field.

Never knows another app. Start reading at `templates/ui/base.html`.
"""
