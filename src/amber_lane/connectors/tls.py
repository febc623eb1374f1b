"""Sealed connections to mail servers: certificates are always verified, by the machine's own authorities and one that can be named."""

from __future__ import annotations

import os
import ssl
from ipaddress import ip_address

from .errors import Refused

# A file of certificates (PEM) of an authority of one's own, trusted beside the machine's.
CA_FILE = "AMBER_LANE_CA_FILE"


def context() -> ssl.SSLContext:
    """What a server's certificate is checked against. OSError where the named file cannot be read."""
    made = ssl.create_default_context()
    if named := os.environ.get(CA_FILE):
        made.load_verify_locations(cafile=named)
    return made


def unverified(host: str, error: ssl.SSLCertVerificationError) -> Refused:
    """What a person reads where a certificate cannot be verified."""
    return Refused(
        f"the certificate of {host} cannot be verified ({error.verify_message}); "
        f"where it is of an authority of your own, name its file in {CA_FILE}"
    )


def on_this_machine(host: str) -> bool:
    """Whether nothing that is sent there leaves this machine."""
    if host == "localhost":
        return True
    try:
        return ip_address(host).is_loopback
    except ValueError:
        return False
