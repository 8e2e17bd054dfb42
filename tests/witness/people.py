"""Groups and users of two tenants, on somebody else's SCIM server (PyPI: scim2-server), for tokens of the issuer.

python people.py PORT ISSUER
"""

import base64
import json
import sys
import urllib.parse
import urllib.request
from wsgiref.simple_server import WSGIRequestHandler, make_server
from wsgiref.util import shift_path_info

from scim2_models import ScimProvider, UnauthorizedException
from scim2_server.applications.wsgi import WSGIApplication
from scim2_server.memory import InMemoryStorage
from scim2_server.utils import (
    load_default_resource_types,
    load_default_schemas,
    load_default_service_provider_config,
)

PORT, ISSUER = int(sys.argv[1]), sys.argv[2]
WHO = base64.b64encode(b"beds:the wall of the garden").decode()


class Admitting(WSGIApplication):
    """A SCIM application for whom the issuer vouches (RFC 7662)."""

    def check_auth(self, request):
        """Refuse a request with a token that does not count."""
        token = (request.header("Authorization") or "").removeprefix("Bearer ")
        data = urllib.parse.urlencode({"token": token}).encode()
        asked = urllib.request.Request(
            f"{ISSUER}/token/introspection", data, {"Authorization": f"Basic {WHO}"}
        )
        with urllib.request.urlopen(asked) as answer:
            if not json.load(answer).get("active"):
                raise UnauthorizedException


class Silent(WSGIRequestHandler):
    """Says nothing of requests."""

    def log_message(self, *told):
        """Say nothing."""


config = load_default_service_provider_config()
provider = ScimProvider.from_discovery(
    load_default_schemas().values(), load_default_resource_types().values(), config=config
)
tenants = {name: Admitting(InMemoryStorage(), provider) for name in ("glade", "meadow")}


def application(environ, start_response):
    """Answer for the tenant that a path begins with."""
    return tenants[shift_path_info(environ)](environ, start_response)


with make_server("127.0.0.1", PORT, application, handler_class=Silent) as server:
    sys.stdout.write("ready\n")
    sys.stdout.flush()
    server.serve_forever()
