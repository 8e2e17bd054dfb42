"""`winreg` as it is documented, on the simulated workstation: so that what uses it can be tested anywhere."""

import types

from zinker.formats.registry_values import from_bytes, to_bytes
from zinker.model.address import folded
from zinker.stores.registry import ROOTS, RegistryError, in_view

LINK = "SymbolicLinkValue"


class Handle:
    def __init__(self, registry, key, link=""):
        self.registry, self.key, self.link = registry, key, link

    def __enter__(self):
        return self

    def __exit__(self, *_):
        pass

    Close = __exit__


def winreg_on(registry):
    """Return a module like `winreg`; errors are OSErrors with Windows' numbers."""
    module = types.ModuleType("winreg")
    numbers = {
        "NONE": 0,
        "SZ": 1,
        "EXPAND_SZ": 2,
        "BINARY": 3,
        "DWORD": 4,
        "LINK": 6,
        "MULTI_SZ": 7,
        "QWORD": 11,
    }
    for name, number in numbers.items():
        setattr(module, f"REG_{name}", number)
    module.KEY_READ, module.KEY_WRITE, module.KEY_SET_VALUE = 0x20019, 0x20006, 2
    module.KEY_WOW64_32KEY, module.KEY_WOW64_64KEY = 0x200, 0x100
    for root in ROOTS:
        setattr(module, root, root)

    def done(do):
        try:
            return do()
        except KeyError:
            raise failed(2) from None
        except RegistryError as error:
            raise failed(32 if "locked" in error.why else 5) from None

    def failed(code):
        error = OSError(code, "as Windows says it")
        error.winerror = code
        return error

    def open_key(root, path, reserved=0, access=0x20019):
        view = in_view(registry, 32 if access & module.KEY_WOW64_32KEY else 0)
        key = f"{root}\\{path}" if path else root
        links = {link.casefold(): target for link, target in registry._state().links.items()}
        if reserved & 8 and key.casefold() in links:
            return Handle(view, key, links[key.casefold()])
        if not view.exists(key):
            raise failed(2)
        if access & 2 and (why := view.obstacle(key)):
            raise failed(32 if "locked" in why else 5)
        done(lambda: view.values(key)) if access & 1 else None
        return Handle(view, key)

    def create(root, path, reserved=0, access=0x20006):
        view = in_view(registry, 32 if access & module.KEY_WOW64_32KEY else 0)
        done(lambda: view.create(f"{root}\\{path}"))
        return Handle(view, f"{root}\\{path}")

    def info(handle):
        if handle.link:
            return 0, 1, 0
        return len(handle.registry.subkeys(handle.key)), len(handle.registry.values(handle.key)), 0

    def enum_key(handle, number):
        names = done(lambda: handle.registry.subkeys(handle.key))
        if number >= len(names):
            raise failed(259)
        return names[number]

    def enum_value(handle, number):
        if handle.link:
            return LINK, handle.link.encode("utf-16-le"), 6
        name, type, value = done(lambda: handle.registry.values(handle.key))[number]
        type, data = to_bytes(type, value)
        kind, plain = from_bytes(type, data)
        if kind in ("sz", "expand_sz", "multi_sz", "dword"):
            return name, plain, type
        return name, int(plain) if kind == "qword" else data, type

    def query_value(handle, name):
        values = done(lambda: handle.registry.values(handle.key))
        for number, (other, _, _) in enumerate(values):
            if folded(other) == folded(name):
                return enum_value(handle, number)[1:]
        raise failed(2)

    def set_value(handle, name, reserved, type, value):
        kinds = {1: "sz", 2: "expand_sz", 4: "dword", 7: "multi_sz", 11: "qword"}
        data = value if isinstance(value, bytes) else to_bytes(kinds[type], value)[1]
        done(lambda: handle.registry.set(handle.key, name, *from_bytes(type, data)))

    def delete_value(handle, name):
        if not any(name.casefold() == other.casefold() for other, _, _ in handle.registry.values(handle.key)):
            raise failed(2)
        done(lambda: handle.registry.delete_value(handle.key, name))

    module.OpenKeyEx, module.CreateKeyEx, module.QueryInfoKey = open_key, create, info
    module.EnumKey, module.EnumValue, module.SetValueEx = enum_key, enum_value, set_value
    module.DeleteValue, module.QueryValueEx = delete_value, query_value
    module.DeleteKeyEx = lambda root, path, access: done(lambda: registry.delete_key(f"{root}\\{path}"))
    module.FlushKey = lambda root: None
    return module
