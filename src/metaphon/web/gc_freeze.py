"""What a server has loaded once is not looked through for garbage again and again."""

import gc

_YOUNGEST = 20_000  # new objects before a look at them; one large page makes tens of thousands


def freeze() -> None:
    """Keep what is there by now out of garbage collection, whose pauses are longer than a page
    takes otherwise.
    """
    gc.collect()
    gc.freeze()
    gc.set_threshold(_YOUNGEST, 20, 50)
