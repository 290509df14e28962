from hypothesis import settings

settings.register_profile(
    "fixed", derandomize=True
)  # the same examples every time: a check must not depend on luck
settings.load_profile("fixed")
