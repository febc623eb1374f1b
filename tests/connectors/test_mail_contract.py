"""The contract of mail: it goes once, and what came is read again and again."""

from __future__ import annotations

import pytest

from amber_lane.connectors import pop_mail
from amber_lane.connectors.errors import Denied, Malformed, Refused, Unavailable
from amber_lane.connectors.kinds import connect
from amber_lane.connectors.protocols import Mail


def test_mail_goes_once_and_can_be_asked_for(calm):
    address = f"smtp://127.0.0.1:{calm.mail_port}|{calm.address}/mail/api"
    mailbox = connect("mailbox", "smtp", address, "", 2)
    mailbox.send(Mail("m-1", "Shop <a@b.example>", "wren@post.example", "Grüße", "Line\n"))
    assert mailbox.find_mail("m-1") and not mailbox.find_mail("m-2")
    mailbox.send(Mail("m-3", "Shop <a@b.example>", "wren@post.example", "Order 1\nBcc: all@post.example", "Line\n"))
    (there,) = [one for one in calm.client.get("/mail/api/messages").json()["messages"] if one["reference"] == "m-3"]
    assert there["subject"] == "Order 1 Bcc: all@post.example" and there["to"] == "wren@post.example"
    for nobody in ("a@b.example, c@d.example", "", "wren", "a b@c@d"):
        with pytest.raises(Refused, match="not one mail address"):
            mailbox.send(Mail("m-4", "Shop <a@b.example>", nobody, "s", "b"))
    with pytest.raises(Unavailable):
        connect("mailbox", "smtp", "smtp://127.0.0.1:9", "", 1).send(Mail("m", "a@b.example", "c@d.example", "s", "b"))


@pytest.mark.parametrize(("kind", "beside"), [("pop", 1), ("imap", 2)])
def test_mail_that_came_is_read_again_and_again_and_nothing_is_deleted(calm, kind, beside):
    def box(key: str = "duskdial:practice-letters", port: int = calm.mail_port + beside):
        return connect("inbox", kind, f"{kind}://127.0.0.1:{port}", key, 2)

    had = set(box().account().there)
    for n in range(2):
        calm.post("mail", sender="Inès <Ines@Buying.example>", subject=f"Ré: {n}", text=".\nGrüße", files={"answers.csv": "a,b\n.1,ä\n"})
    link = box()
    with link.visit() as there:
        first, second = (uid for uid in there.uids() if uid not in had)
        letter = there.letter(first)
        assert there.letter(second).subject == "Ré: 1" and first in there.uids() and "gone" in there.letter("uid-0").fault
    assert (letter.sender, letter.subject, letter.text) == ("ines@buying.example", "Ré: 0", ".\nGrüße")
    assert [(name, data.decode().replace("\r", "")) for name, data in letter.files] == [("answers.csv", "a,b\n.1,ä\n")]
    with link.visit() as one, link.visit() as other:
        # Two threads may read the same mailbox; neither closes what the other reads from.
        assert one.uids() == other.uids() and one.letter(first) == other.letter(first)
        with link.visit() as third:
            assert third.letter(second).subject == "Ré: 1"
        assert one.letter(second) == other.letter(second) and one.letter(second).subject == "Ré: 1"
    for wrong in ("no", "größe"):
        with pytest.raises(Denied):
            box(f"duskdial:{wrong}").account()
    with pytest.raises(Unavailable):
        box(port=9).account()
    for address in ("http://mail.example", f"{kind}://mail.example:99999", f"{kind}://"):
        with pytest.raises(Refused, match="mailbox"):
            connect("inbox", kind, address, "", 1)
    for dial in ("errors", "malformed"):
        calm.dial("mail", dial, 1)
        with pytest.raises((Unavailable, Malformed)), link.visit() as there:
            there.letter(first)
        calm.dial("mail", dial, 0)


def test_a_mail_of_any_make_is_read_or_told():
    odd = b"From: \xff\xfe <a@b.example>\nSubject: =?utf-8?b?/w==?= \xe9\nDate: yesterday\nContent-Type: text/plain; charset=nowhere\n\n\xe9\x00end"
    for raw in (b"", b"\x00\xff", odd, b"From: @\nTo: <<>>\nContent-Type: multipart/mixed; boundary=x\n\n--x\nContent-Type: a/b/c\n\nq"):
        letter = pop_mail.read("u", raw)
        for text in (letter.sender, letter.subject, letter.text, letter.fault):
            assert "\x00" not in text and text == text.encode().decode()
