"""The one error that carries a sentence for the user."""


class InputError(ValueError):
    """What was given can't be used. The message is one sentence that says what to do; it is shown as it stands."""
