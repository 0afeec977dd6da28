"""Settings of the kind sftp."""

from __future__ import annotations

from pydantic import Field

from ultravect.core.model.base import Declared
from ultravect.core.model.connection import (
    INSIDE,
    SECRET,
    Host,
    Port,
    Secret,
    SecretText,
)


class SftpSettings(Declared):
    """A folder of an SFTP server."""

    host: Host
    port: Port = 22
    user: str = Field(min_length=1)
    password: Secret = ""
    private_key: SecretText = ""
    passphrase: Secret = Field(
        default="", description="Of the private key, if it has one.", json_schema_extra={**SECRET}
    )
    host_key: str = Field(
        default="",
        description="The server's public key, such as `ssh-ed25519 AAAA…`. `connection test` shows it, to be compared "
        "with what the server's owner says; without it, nothing is sent.",
    )
    folder: str = Field(
        default="",
        description="Left out: where the server puts the user.",
        examples=["/outgoing"],
        json_schema_extra={**INSIDE},
    )
