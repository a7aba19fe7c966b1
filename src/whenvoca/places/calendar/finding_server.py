"""A CalDAV server found by its domain's DNS records (RFC 6764): host and port by SRV, the path by TXT."""

from __future__ import annotations

from typing import Any

from whenvoca.errors import PlaceTrouble, SettingsFault, WhenvocaError

_SERVICES = (("_caldavs._tcp", "https", 443), ("_caldav._tcp", "http", 80))  # the one over TLS first (RFC 6764 6)


def find_server(domain: str, place: str, *, nameserver: str = "", seconds: float = 30.0) -> str:
    """The address of the domain's server; without records, the domain itself over TLS. ``nameserver`` is asked instead
    of the system's: an address, with a port if need be. Raises SettingsFault, or PlaceTrouble: then nothing was sent to
    any server.
    """
    resolver = _open_resolver(place, nameserver, seconds)
    for service, scheme, usual in _SERVICES:
        name = f"{service}.{domain}"
        records = _ask(resolver, name, "SRV", place)
        if not records:
            continue
        first = min(records, key=lambda each: (each.priority, -each.weight))  # RFC 2782
        host = first.target.to_text(omit_final_dot=True).lower()
        if host in ("", "."):
            raise PlaceTrouble(
                f"says in its records that it offers no calendars ({name})",
                where=f"{place}, {domain}",
                fix="ask who runs it for the address",
            )
        _refuse_stranger(host, domain, place)
        port = "" if first.port == usual else f":{first.port}"
        return f"{scheme}://{host}{port}{_path_of(_ask(resolver, name, 'TXT', place))}"
    return f"https://{domain}/"


def _refuse_stranger(host: str, domain: str, place: str) -> None:
    """Raises PlaceTrouble for a host that is not the domain's: whoever answers could name any (RFC 6764 8)."""
    if host != domain.lower() and not host.endswith(f".{domain.lower()}"):
        raise PlaceTrouble(
            f"names another host in its records, {host}; the password is not given to it",
            where=f"{place}, {domain}",
            fix="if that is right, write its address into whenvoca.toml",
        )


def _path_of(records: list[Any]) -> str:
    for record in records:
        text = b"".join(record.strings).decode("utf-8", "replace")
        if text.startswith("path=/"):
            return text.removeprefix("path=")
    return "/"


def _open_resolver(place: str, nameserver: str, seconds: float) -> Any:
    try:
        from dns.exception import DNSException
        from dns.resolver import Resolver
    except ImportError as error:
        raise SettingsFault("dnspython is not installed", where=place, fix="pip install 'whenvoca[server]'") from error
    try:
        resolver = Resolver(configure=not nameserver)
        if nameserver:
            address, port = _split_port(nameserver)
            resolver.nameservers, resolver.port = [address], port
    except (DNSException, ValueError, OSError) as error:
        raise SettingsFault(
            f'"{nameserver}" is no name server that can be asked: {error}'
            if nameserver
            else f"no name server: {error}",
            where=place,
            fix='its address, such as nameserver = "192.0.2.53"',
        ) from error
    resolver.lifetime = min(seconds, 10.0)
    return resolver


def _split_port(nameserver: str) -> tuple[str, int]:
    """Address and port. Raises ValueError."""
    address, colon, port = nameserver.rpartition(":")
    if not colon or "]" in port or (address.count(":") > 0 and not address.startswith("[")):
        return nameserver.strip("[]"), 53
    return address.strip("[]"), int(port)


def _ask(resolver: Any, name: str, kind: str, place: str) -> list[Any]:
    """The records of that name, none where there are none. Raises PlaceTrouble where nobody answers."""
    from dns.exception import DNSException
    from dns.resolver import NXDOMAIN, NoAnswer

    try:
        return list(resolver.resolve(name, kind, search=False))
    except (NXDOMAIN, NoAnswer):
        return []
    except DNSException as error:
        raise _no_answer(name, place, error) from error


def _no_answer(name: str, place: str, error: Exception) -> WhenvocaError:
    return PlaceTrouble(
        f"its records cannot be asked for ({name}): {str(error).splitlines()[0]}",
        where=place,
        fix="what was begun goes on when name servers answer again",
        is_passing=True,
    )
