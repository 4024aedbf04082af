"""The web application: Django renders and stores.

Never sends load, never runs what users wrote. Start reading at `settings`, `urls`, then an app's
`queries`.
"""
