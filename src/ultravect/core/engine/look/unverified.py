"""Connections whose server does not have to prove who it is."""

from __future__ import annotations

from ultravect.core.engine.objects.connections import ConnectionSpec
from ultravect.core.engine.plan.planning import Planning
from ultravect.core.model.connection import usual_tls


def find_unverified(plan: Planning, source: ConnectionSpec, target: ConnectionSpec) -> None:
    """Warns of those that reach a host outside of this machine and of private networks."""
    for place, spec in (("from.connection", source), ("into.connection", target)):
        host, tls = str(spec.settings.get("host") or ""), str(spec.settings.get("tls") or "")
        if host and tls and tls != "verified" and usual_tls(host) == "verified":
            plan.add(
                "warning",
                "server-unverified",
                f"connection {spec.name} has tls: {tls}: any server that answers as {host} is sent the sign-in and the rows",
                place,
                f"ultravect connection change {spec.name} tls=verified; with tls_ca where its certificate is of an authority of your own",
            )
