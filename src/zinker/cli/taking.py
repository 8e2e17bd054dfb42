"""Options that a command takes besides those of its own signature."""

import functools
import inspect
from collections.abc import Callable
from typing import Any, TypeVar, cast

# Options by name: how they are annotated, and their defaults.
Group = dict[str, tuple[Any, Any]]
Command = TypeVar("Command", bound=Callable[..., None])


def taking(*groups: Group) -> Callable[[Command], Command]:
    """Give a command the options of some groups after its own; it finds them in the context's `params`."""

    def decorate(command: Command) -> Command:
        own = inspect.signature(command)

        @functools.wraps(command)
        def taken(**given: Any) -> None:
            command(**{name: given[name] for name in own.parameters})

        return cast(Command, with_options(taken, command, *groups))

    return decorate


def with_options(
    function: Callable[..., None], command: Callable[..., None], *groups: Group
) -> Callable[..., None]:
    """Have a function stand for a command that takes the options of some groups, too."""
    own = inspect.signature(command)
    more = [
        inspect.Parameter(name, inspect.Parameter.KEYWORD_ONLY, default=default, annotation=annotation)
        for group in groups
        for name, (annotation, default) in group.items()
    ]
    functools.update_wrapper(function, command)
    function.__signature__ = own.replace(parameters=[*own.parameters.values(), *more])  # type: ignore[attr-defined]
    named = {name: annotation for group in groups for name, (annotation, _) in group.items()}
    function.__annotations__ = command.__annotations__ | named
    return function
