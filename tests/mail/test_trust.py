"""Whom an email comes from counts where a trusted server has found it out (RFC 8601)."""

from __future__ import annotations

import pytest

from whenvoca.places.mailbox.trust import is_authentic

FROM = ("From", "Joana <joana@quay.example.org>")
RECEIVED = ("Received", "from x by mail.example.org; Mon, 15 Mar 2027 09:00:00 -0100")


def results(text: str, server: str = "mail.example.org") -> tuple[str, str]:
    return "Authentication-Results", f"{server}; {text}"


TABLE = [
    ([results("dmarc=pass header.from=quay.example.org")], True),
    ([results("dmarc=pass (p=reject) header.from=quay.example.org")], True),
    ([results("dmarc=fail header.from=quay.example.org")], False),
    ([results("dmarc=pass header.from=other.example.org")], False),
    ([results("dkim=pass header.d=quay.example.org")], True),
    ([results("dkim=pass header.d=example.org")], True),
    ([results("dkim=pass header.d=org")], False),
    ([results("dkim=pass header.d=y.example.org")], False),
    ([results("dkim=pass header.i=@quay.example.org")], True),
    ([results("dkim=fail header.d=quay.example.org; spf=pass smtp.mailfrom=joana@quay.example.org")], True),
    ([results("spf=pass smtp.mailfrom=bounce.example.com")], False),
    ([results("spf=softfail smtp.mailfrom=quay.example.org")], False),
    ([results("dmarc=pass header.from=quay.example.org", "evil.example.com")], False),
    ([results("none")], False),
    ([("Authentication-Results", ";;;")], False),
    ([("Authentication-Results", "")], False),
    ([], False),
    # below what came from elsewhere anybody may have written the same
    ([RECEIVED, results("dmarc=pass header.from=quay.example.org")], True),
    ([results("none"), RECEIVED, results("dmarc=pass header.from=quay.example.org")], False),
    ([results("none", "evil.example.com"), results("dmarc=pass header.from=quay.example.org")], False),
    ([results("spf=fail"), results("dkim=pass header.d=quay.example.org")], True),
    ([("authentication-results", "mail.example.org;\r\n dmarc=pass header.from=quay.example.org")], True),
]


@pytest.mark.parametrize(("headers", "wanted"), TABLE)
def test_what_the_server_found(headers: list[tuple[str, str]], wanted: bool) -> None:
    assert is_authentic([*headers, FROM], "mail.example.org", "joana@quay.example.org") is wanted


def test_two_senders_are_nobody() -> None:
    good = results("dmarc=pass header.from=quay.example.org")
    assert not is_authentic([good, FROM, FROM], "mail.example.org", "joana@quay.example.org")
    assert not is_authentic([good], "mail.example.org", "joana@quay.example.org")
    assert not is_authentic([good, FROM], "mail.example.org", "")
