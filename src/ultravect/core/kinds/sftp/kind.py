"""What the kind sftp is: its settings, and what is opened with them."""

from __future__ import annotations

from pydantic import Field

from ultravect.core.contracts.kind import Kind
from ultravect.core.model.base import Declared
from ultravect.core.model.connection import (
    BOUND_ONCE_SET,
    INSIDE,
    Host,
    Port,
    Secret,
    SecretText,
    User,
    sent_to,
)


class SftpSettings(Declared):
    """A folder of an SFTP server."""

    host: Host
    port: Port = 22
    user: User
    password: Secret = ""
    private_key: SecretText = ""
    passphrase: Secret = Field(
        default="", description="Of the private key, if it has one.", json_schema_extra=sent_to()
    )
    host_key: str = Field(
        default="",
        description="The server's public key, such as `ssh-ed25519 AAAA…`. `connection test` shows it, to be compared "
        "with what the server's owner says; without it, nothing is sent.",
        json_schema_extra={**BOUND_ONCE_SET},
    )
    folder: str = Field(
        default="",
        description="Left out: where the server puts the user.",
        examples=["/outgoing"],
        json_schema_extra={**INSIDE},
    )


KIND = Kind(
    name="sftp",
    holds="files",
    settings=SftpSettings,
    opens="ultravect.core.kinds.sftp.storage:SftpStorage",
    needs={"paramiko": "paramiko"},
)
