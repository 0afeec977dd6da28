"""What the kind sftp is: see ``Kind``."""

from __future__ import annotations

from ultravect.core.contracts.kind import Kind
from ultravect.core.kinds.sftp.settings import SftpSettings

KIND = Kind(
    name="sftp",
    holds="files",
    settings=SftpSettings,
    opens="ultravect.core.kinds.sftp.storage:SftpStorage",
    needs={"paramiko": "paramiko"},
)
