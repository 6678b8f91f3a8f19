"""The nginx of Marram Ferries as it lies on its disk: what ``--server-config`` is tried on."""

from pewter.data import toml_beside


def server_config() -> dict[str, str]:
    """The text of each file, by its path."""
    files: dict[str, str] = toml_beside(__file__, "server_config.toml")["files"]
    return files
