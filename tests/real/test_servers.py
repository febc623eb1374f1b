"""Mail with Debian's own servers: a mailbox of dovecot's read by POP3 and IMAP, and postfix that takes what is sent. `make test-real`."""

from __future__ import annotations

import os
import shutil
import socket
import subprocess
import tempfile
import time
from collections.abc import Iterator
from email.message import EmailMessage
from pathlib import Path

import pytest

from amber_lane.connectors import tls
from amber_lane.connectors.errors import Denied, Refused
from amber_lane.connectors.kinds import connect
from amber_lane.connectors.protocols import Mail

from ..certificates import make

pytestmark = pytest.mark.skipif("AMBER_LANE_REAL" not in os.environ, reason="make test-real installs the servers and runs this")


def opened(name: str) -> Path:
    """A folder that the servers' own users may enter; the test's own ones are closed to them."""
    home = Path(tempfile.mkdtemp(prefix=f"amber-lane-{name}-"))
    home.chmod(0o755)
    return home


def port() -> int:
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        found: int = free.getsockname()[1]
        return found


def reach(where: int, within: float = 20) -> None:
    until = time.monotonic() + within
    while True:
        try:
            socket.create_connection(("127.0.0.1", where), 1).close()
            return
        except OSError:
            if time.monotonic() > until:
                raise
            time.sleep(0.1)


@pytest.fixture(scope="module")
def sealed(tmp_path_factory: pytest.TempPathFactory) -> Iterator[tuple[Path, Path]]:
    folder = tmp_path_factory.mktemp("ca")
    cert, key = make(folder)
    before = os.environ.get(tls.CA_FILE)
    os.environ[tls.CA_FILE] = str(cert)
    yield cert, key
    if before is None:
        del os.environ[tls.CA_FILE]
    else:
        os.environ[tls.CA_FILE] = before


@pytest.fixture(scope="module")
def box(sealed: tuple[Path, Path]) -> Iterator[tuple[Path, dict[str, int]]]:
    """A mailbox with its Maildir, and the ports of POP3 and IMAP, plain and sealed."""
    home = opened("dovecot")
    mails = home / "mails"
    for name in ("new", "cur", "tmp"):
        (mails / name).mkdir(parents=True)
        os.chown(mails / name, 65534, 65534)
    os.chown(mails, 65534, 65534)
    ports = {name: port() for name in ("pop", "pops", "imap", "imaps")}
    (home / "users").write_text("duskdial:{PLAIN}rightword::::::\n")
    conf = home / "dovecot.conf"
    conf.write_text(f"""
base_dir = {home}/run
state_dir = {home}/state
log_path = {home}/log
protocols = imap pop3
ssl = yes
ssl_cert = <{sealed[0]}
ssl_key = <{sealed[1]}
disable_plaintext_auth = no
mail_location = maildir:{mails}
first_valid_uid = 0
mail_uid = 65534
mail_gid = 65534
first_valid_gid = 0
passdb {{
  driver = passwd-file
  args = scheme=PLAIN {home}/users
}}
userdb {{
  driver = static
  args = uid=65534 gid=65534 home={mails}
}}
service anvil {{
  chroot =
}}
service imap-login {{
  chroot =
  inet_listener imap {{
    address = 127.0.0.1
    port = {ports["imap"]}
  }}
  inet_listener imaps {{
    address = 127.0.0.1
    port = {ports["imaps"]}
    ssl = yes
  }}
}}
service pop3-login {{
  chroot =
  inet_listener pop3 {{
    address = 127.0.0.1
    port = {ports["pop"]}
  }}
  inet_listener pop3s {{
    address = 127.0.0.1
    port = {ports["pops"]}
    ssl = yes
  }}
}}
""")
    process = subprocess.Popen(["dovecot", "-F", "-c", str(conf)], stderr=(home / "stderr").open("wb"))
    try:
        for one in ports.values():
            reach(one)
    except OSError:
        pytest.fail((home / "stderr").read_text() + ((home / "log").read_text() if (home / "log").exists() else ""))
    yield mails, ports
    process.terminate()
    process.wait(10)
    shutil.rmtree(home, ignore_errors=True)


def put(mails: Path, name: str, mail: EmailMessage) -> None:
    (mails / "new" / name).write_bytes(mail.as_bytes())
    (mails / "new" / name).chmod(0o644)


@pytest.mark.parametrize("kind", ["pop", "imap", "pops", "imaps"])
def test_a_mailbox_of_dovecot_is_read(box: tuple[Path, dict[str, int]], kind: str) -> None:
    mails, ports = box
    mail = EmailMessage()
    mail["From"], mail["Subject"] = "Inès <ines@buying.example>", f"Réponse {kind}"
    mail.set_content("Grüße\n" + "x" * 5000)
    mail.add_attachment(b"a,b\n1,2\n", maintype="text", subtype="csv", filename="answers.csv")
    link = connect("inbox", kind.rstrip("s") if kind != "pops" else "pop", f"{kind}://127.0.0.1:{ports[kind]}", "duskdial:rightword", 5)
    there = set(link.account().there)
    put(mails, f"{kind}.1", mail)
    with link.visit() as visit:
        (fresh,) = [uid for uid in visit.uids() if uid not in there]
        letter = visit.letter(fresh)
    assert (letter.sender, letter.subject) == ("ines@buying.example", f"Réponse {kind}") and letter.text.startswith("Grüße")
    assert [name for name, _ in letter.files] == ["answers.csv"]
    with link.visit() as visit:
        assert fresh in visit.uids(), "nothing is deleted"
    with pytest.raises(Denied):
        connect("inbox", "pop" if "pop" in kind else "imap", f"{kind}://127.0.0.1:{ports[kind]}", "duskdial:wrong", 5).account()


@pytest.fixture(scope="module")
def post(sealed: tuple[Path, Path]) -> Iterator[tuple[int, Path]]:
    """A postfix of our own that delivers to a file, with STARTTLS; its port and the file."""
    home = opened("postfix")
    conf, queue, data, out = home / "conf", home / "queue", home / "data", home / "mail" / "wren"
    for one in (conf, queue, data, out.parent):
        one.mkdir()
    out.parent.chmod(0o777)
    shutil.chown(data, "postfix")
    where = port()
    (conf / "main.cf").write_text(
        f"""
compatibility_level = 3.6
queue_directory = {queue}
data_directory = {data}
command_directory = /usr/sbin
daemon_directory = /usr/lib/postfix/sbin
mail_owner = postfix
setgid_group = postdrop
myhostname = post.example
mydestination =
virtual_mailbox_domains = post.example
virtual_mailbox_base = {home}/mail
virtual_mailbox_maps = inline:{{{{wren@post.example=wren}}}}
virtual_uid_maps = static:65534
virtual_gid_maps = static:65534
inet_interfaces = 127.0.0.1
inet_protocols = ipv4
alias_maps =
alias_database =
maillog_file = {home}/log
maillog_file_prefixes = {home}
smtpd_tls_cert_file = {sealed[0]}
smtpd_tls_key_file = {sealed[1]}
smtpd_tls_security_level = may
""".replace("{{", "{").replace("}}", "}")
    )
    master = Path("/etc/postfix/master.cf").read_text().splitlines()
    rows = [row.replace(" y ", " n ", 3) if row and not row.startswith((" ", "#")) else row for row in master]
    rows = [f"127.0.0.1:{where} inet n - n - - smtpd" if row.startswith("smtp ") and "inet" in row else row for row in rows]
    rows = [row for row in rows if "chroot" not in row]
    (conf / "master.cf").write_text("\n".join(rows) + "\n")
    done = subprocess.run(["postfix", "-c", str(conf), "start"], capture_output=True, text=True)
    try:
        reach(where)
    except OSError:
        pytest.fail(done.stderr + ((home / "log").read_text() if (home / "log").exists() else ""))
    yield where, out
    subprocess.run(["postfix", "-c", str(conf), "stop"], capture_output=True)
    shutil.rmtree(home, ignore_errors=True)


def test_postfix_takes_what_is_sent_and_refuses_in_its_words(post: tuple[int, Path]) -> None:
    where, out = post
    link = connect("mailbox", "smtp", f"smtp://127.0.0.1:{where}", "", 10)
    assert link.account().may == ["send mail"]
    link.send(Mail("mail-7", "Größe & Söhne, Läden <orders@our-shop.example>", "Wren <wren@post.example>", "Grüße", "Hello\n"))
    with pytest.raises(Refused, match=r"550.*nobody@post\.example"):
        link.send(Mail("mail-8", "orders@our-shop.example", "nobody@post.example", "s", "b"))
    until = time.monotonic() + 20
    while not (out.exists() and "mail-7@our-shop.example" in out.read_text()) and time.monotonic() < until:
        time.sleep(0.1)
    assert "Auto-Submitted: auto-generated" in out.read_text()
