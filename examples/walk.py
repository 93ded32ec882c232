"""Functions of our own for walk.toml."""


def is_even(url: str, text: str) -> bool:
    """Springs with an even number, and everything else."""
    number = url.rpartition("/MW-")[2]
    return not number.isdigit() or int(number) % 2 == 0
