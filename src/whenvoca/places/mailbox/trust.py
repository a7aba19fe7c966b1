"""Whether an email comes from whom it says: by the Authentication-Results of a server that is trusted (RFC 8601)."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any


def is_authentic(headers: Sequence[tuple[str, str]], server: str, sender: str) -> bool:
    """Whether that server found that the email comes from the sender's domain: DMARC passed, or DKIM or SPF for that
    domain. ``headers`` are all of the email's, in order.

    Only what the server itself put on top counts: below a foreign header anybody may have written the same.
    """
    domain = sender.rpartition("@")[2].lower()
    if not domain or sum(name.lower() == "from" for name, _ in headers) != 1:
        return False
    return any(_passes(result, domain) for result in _results(headers, server))


def _results(headers: Sequence[tuple[str, str]], server: str) -> Iterator[Any]:
    """What the server's own headers say: those on top, with nothing that came from elsewhere between them."""
    import authres

    is_begun = False
    for name, value in headers:
        if name.lower() != "authentication-results":
            if is_begun and name.lower() == "received":
                return
            continue
        try:
            found = authres.AuthenticationResultsHeader.parse_value(" ".join(value.split()))
        except (authres.AuthResError, ValueError):
            return
        if str(found.authserv_id or "").lower() != server.lower():
            return
        is_begun = True
        yield from found.results


def _passes(result: Any, domain: str) -> bool:
    if str(result.result).lower() != "pass":
        return False
    said = {f"{each.type}.{each.name}": str(each.value or "").lower() for each in result.properties}
    match str(result.method).lower():
        case "dmarc":
            return _is_of(said.get("header.from", ""), domain)
        case "dkim":
            return _is_of(said.get("header.d", "") or said.get("header.i", ""), domain)
        case "spf":
            return _is_of(said.get("smtp.mailfrom", ""), domain)
    return False


def _is_of(found: str, domain: str) -> bool:
    """Whether what was found is the domain, or one that it stands below."""
    found = found.rpartition("@")[2].strip(".")
    return found == domain or ("." in found and domain.endswith(f".{found}"))
