"""Kinds of request, the resources they pass, and what each weather changes."""

# name -> (servers, mean service in seconds); means are at least 20 ms
CLEAR: dict[str, tuple[int, float]] = {
    "web": (12, 0.020),
    "pool": (16, 0.025),
    "search": (6, 0.030),
    "disk": (4, 0.020),
}
WEATHER: dict[str, dict[str, tuple[int, float]]] = {"clear": CLEAR, "small-pool": {**CLEAR, "pool": (6, 0.025)}}
# kind of request -> the resources it passes, in order
ROUTES: dict[str, tuple[str, ...]] = {
    "front": ("web",),
    "sign-in page": ("web",),
    "sign-in": ("web", "pool"),
    "sky": ("web", "pool"),
    "objects search": ("search",),
    "object": ("web", "disk"),
    "slots": ("web", "pool"),
    "hold": ("pool",),
    "booking": ("web", "pool"),
    "cancel": ("web", "pool"),
    "account": ("web",),
    "postbox": ("web",),
    "code": ("web", "pool"),
    "roof": ("web", "pool"),
    "approve": ("pool",),
    "report": ("web", "disk", "pool"),
    "sign-out": ("web",),
    "still": (),
}
