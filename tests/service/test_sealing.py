"""Secrets at rest: they open with their key, and with no other; and what the service says without it."""

from __future__ import annotations

from pathlib import Path

import pytest
from devtools.stack import Stack
from django.core.exceptions import ImproperlyConfigured
from hypothesis import given
from hypothesis import strategies as st
from tests.conftest import Place

from ultravect.service.sealing import Keys, SealBroken, read_key


@given(st.dictionaries(st.text(min_size=1), st.text()), st.binary(min_size=16))
def test_what_is_sealed_opens(secrets: dict[str, str], key: bytes) -> None:
    sealed = Keys(key).seal(secrets)
    assert Keys(key).unseal(sealed) == secrets
    if not secrets:
        assert sealed == ""
        return
    assert all(value not in sealed for value in secrets.values() if len(value) > 8)
    with pytest.raises(SealBroken):
        Keys(key + b"x").unseal(sealed)


def test_a_seal_that_was_touched_does_not_open() -> None:
    keys = Keys(b"k" * 16)
    sealed = keys.seal({"password": "x"})
    middle = len(sealed) // 2
    touched = sealed[:middle] + ("A" if sealed[middle] != "A" else "B") + sealed[middle + 1 :]
    with pytest.raises(SealBroken):
        keys.unseal(touched)
    assert keys.unseal("") == {}


def test_sealing_twice_gives_two_texts() -> None:
    keys = Keys(b"k" * 16)
    assert keys.seal({"password": "x"}) != keys.seal({"password": "x"})


def test_where_the_key_comes_from(tmp_path: Path) -> None:
    file = tmp_path / "key"
    file.write_text("from-a-file-0123456789\n")
    by_file = read_key({"ULTRAVECT_KEY_FILE": str(file)})
    by_name = read_key({"ULTRAVECT_KEY": "from-a-file-0123456789"})
    assert by_file.unseal(by_name.seal({"a": "b"})) == {"a": "b"}
    assert by_file.signing == by_name.signing
    assert "from-a-file" not in by_file.signing


@pytest.mark.parametrize(
    ("environment", "part"),
    [
        ({}, "set ULTRAVECT_KEY"),
        ({"ULTRAVECT_KEY": "short"}, "at least 16 characters"),
        ({"ULTRAVECT_KEY_FILE": "/no/such/file"}, "cannot be read"),
    ],
)
def test_no_key_no_service(environment: dict[str, str], part: str) -> None:
    with pytest.raises(ImproperlyConfigured, match=part):
        read_key(environment)


def test_a_service_with_another_key_says_so(place: Place, stack: Stack) -> None:
    """Nothing leaks, nothing crashes, and the old key makes it all work again."""
    place.file("a\n1\n").job()
    key = stack.key
    stack.stop_service()
    stack.key = "another-key-0123456789"
    stack.start_service()
    try:
        # sessions and tokens are another matter: tokens are hashes, and go on working
        run = place.run()
        assert run.error is not None
        assert (run.state, run.error["code"]) == ("failed", "seal-broken")
        assert "set the connection's secrets anew" in run.error["hint"]
        # which can be done
        place.client.add_connection(f"{place.name}-c", "postgresql", stack.warehouse)
        sealed = {connection.name: connection.secrets_set for connection in place.client.connections()}
        assert (sealed["warehouse"], sealed[f"{place.name}-c"]) == ([], ["password"])
        place.client.change_connection("warehouse", {"password": stack.postgres.password})
        assert place.run().state == "succeeded"
    finally:
        stack.stop_service()
        stack.key = key
        stack.start_service()
        place.client.change_connection("warehouse", {"password": stack.postgres.password})
    assert place.run().state == "succeeded"
