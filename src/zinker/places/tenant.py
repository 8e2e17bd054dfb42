"""A place that is a tenant of a service: its policies, and nothing else."""

from collections.abc import Callable
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Literal
from urllib.parse import urlsplit

from zinker.model.errors import Refused, ZinkerError
from zinker.places.place import Place
from zinker.places.remote import secret_of

if TYPE_CHECKING:
    from zinker.stores.tenant import Tenant

SYSTEM = "tenant"


class TenantPlace(Place):
    """A tenant; with `live`, nothing is brought there unless its name is given."""

    kind = "tenant"

    def __init__(
        self,
        name: str,
        address: str,
        client_id: str,
        sign_in: Literal["secret", "device"],
        concurrency: int,
        live: bool,
        unfinished: Path,
        key: Callable[[], bytes],
        notify: Callable[[str], None],
    ) -> None:
        self.name, self.is_production = name, live
        self._address, self._client_id = address, client_id
        self._sign_in, self._concurrency = sign_in, concurrency
        self._unfinished, self._key, self._notify = unfinished, key, notify

    @property
    def machine(self) -> str:
        """The tenant, by its address without the scheme."""
        split = urlsplit(self._address)
        return f"{split.hostname}{split.path}".rstrip("/")

    @property
    def user(self) -> str:
        """Return "": policies are a tenant's."""
        return ""

    @property
    def system(self) -> str:
        """What it is."""
        return SYSTEM

    def absence(self) -> str:
        """Say why it does not answer or let us in, or ""; a sign-in by a person is not started for that."""
        try:
            api = self._tenant.api
            if self._sign_in == "secret":
                api.sign_in()
            else:
                api.reach()
        except ZinkerError as error:
            return error.why
        return ""

    def tenant(self) -> "Tenant":
        """Return the tenant, connected to when it is first asked something."""
        return self._tenant

    @cached_property
    def _tenant(self) -> "Tenant":
        try:  # most runs need none of this
            from zinker.stores.tenant import Tenant
            from zinker.stores.tenant_api import TenantApi
            from zinker.stores.unfinished import Unfinished
        except ImportError:
            why = "what is needed to talk to a tenant is not installed"
            raise Refused(f"No answer from {self.name}", why, "pip install 'zinker[tenant]'") from None
        secret = (lambda: secret_of(self.name, self._client_id)) if self._sign_in == "secret" else None
        api = TenantApi(self._address, self._client_id, secret, self._concurrency, self._notify)
        return Tenant(api, Unfinished(self._unfinished, self._key))
