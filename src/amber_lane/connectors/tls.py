"""Sealed connections to mail servers: certificates are always verified, by the machine's own authorities and one that can be named."""

from __future__ import annotations

import os
import ssl
from ipaddress import ip_address

from .errors import Refused, Unavailable

# A file of certificates (PEM) of an authority of one's own, trusted beside the machine's.
CA_FILE = "AMBER_LANE_CA_FILE"
BEYOND_ASCII = "mail servers take a name and password in plain letters (ASCII) only; give it another one there"


def context() -> ssl.SSLContext:
    """What a server's certificate is checked against. Unavailable where the named file cannot be read: once it can, all goes on."""
    made = ssl.create_default_context()
    if named := os.environ.get(CA_FILE):
        try:
            made.load_verify_locations(cafile=named)
        except OSError as error:
            raise Unavailable(f"the file of certificates {named}, named in {CA_FILE}, cannot be read; mend that") from error
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
