"""A place that is a tenant of a service: its policies, and nothing else."""

import os
from collections.abc import Callable
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING
from urllib.parse import urlsplit

from zinker.model.errors import Refused, ZinkerError
from zinker.places.place import Place
from zinker.stores.credentials import Credential
from zinker.stores.tenants.service import Service

if TYPE_CHECKING:
    from zinker.stores.tenants.tenant import Tenant

SYSTEM = "tenant"
_WAYS = {"secret": "its secret", "key": "its private key", "device": "a person at another device"}


class TenantPlace(Place):
    """A tenant; with `live`, nothing is brought there unless its name is given."""

    kind = "tenant"

    def __init__(
        self,
        service: Service,
        credential: Credential,
        live: bool,
        unfinished: Path,
        key: Callable[[], bytes],
        notify: Callable[[str], None],
    ) -> None:
        self.name, self.is_production = service.place, live
        self._service, self._credential = service, credential
        self._unfinished, self._key, self._notify = unfinished, key, notify

    @property
    def machine(self) -> str:
        """The tenant, by its address without the scheme."""
        split = urlsplit(self._service.root)
        return f"{split.hostname}{split.path}".rstrip("/")

    @property
    def user(self) -> str:
        """Return "": policies are a tenant's."""
        return ""

    @property
    def system(self) -> str:
        """What it is."""
        return SYSTEM

    @property
    def credential(self) -> Credential:
        """What signs in there."""
        return self._credential

    @property
    def signs_in(self) -> str:
        """Say who signs in there, and how."""
        by = _WAYS[self._service.sign_in]
        is_kept = self._service.sign_in != "device" or self._credential.is_kept
        where = f", from {self._credential.told}" if is_kept else ", each time"
        return f"{self._service.client_id} by {by}{where}"

    def absence(self) -> str:
        """Say why it does not answer or let us in, or ""; a sign-in by a person is not started for that."""
        try:
            api = self._tenant.api
            if self._service.sign_in == "device" and not self._credential.is_kept:
                api.reach()
            else:
                api.sign_in()
        except ZinkerError as error:
            return f"{error.why}. {error.then.rstrip('.')}" if error.then else error.why
        return ""

    def tenant(self) -> "Tenant":
        """Return the tenant, connected to when it is first asked something."""
        return self._tenant

    @cached_property
    def _tenant(self) -> "Tenant":
        try:  # most runs need none of this
            from zinker.stores.tenants.connection import Connection
            from zinker.stores.tenants.odata import Api
            from zinker.stores.tenants.sign_in import SignIn
            from zinker.stores.tenants.tenant import Tenant
            from zinker.stores.tenants.unfinished import Unfinished
        except ImportError:
            why = "what is needed to talk to a tenant is not installed"
            raise Refused(f"No answer from {self.name}", why, "pip install 'zinker[tenant]'") from None
        connection = Connection(self._service)
        sign_in = SignIn(self._service, connection, self._credential, self._notify, _is_attended)
        return Tenant(Api(connection, sign_in), Unfinished(self._unfinished, self._key))


def _is_attended() -> bool:
    """Tell whether a person can read what is said, and act on it."""
    try:
        return os.isatty(2)
    except OSError:  # there is nothing to say it to
        return False
