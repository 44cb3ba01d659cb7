"""The words of which the plan document is made: names, addresses, ports, durations, and references between objects.

A reference is a plain string that carries its kind as metadata (``Annotated[str, Ref("zone")]``), so that one walker
(`northgate.plan.references`) finds every reference of a plan without a list of its own.
"""

import ipaddress
import re
import unicodedata
from functools import lru_cache
from typing import Annotated, Any

from msgspec import Struct
from pydantic import (
    AfterValidator,
    BaseModel,
    BeforeValidator,
    ConfigDict,
    Field,
    GetJsonSchemaHandler,
    StringConstraints,
)
from pydantic.alias_generators import to_snake
from pydantic.json_schema import JsonSchemaValue
from pydantic_core import CoreSchema

from northgate.plan.models.words import hints

NAME_PATTERN = r"^[a-z]([a-z0-9-]{0,61}[a-z0-9])?$"
_LABEL = r"[A-Za-z0-9_]([A-Za-z0-9_-]{0,61}[A-Za-z0-9_])?"
# RFC 1123 section 2.1 and RFC 1035 section 2.3.4: labels of 1 to 63 letters, digits and hyphens, 253 in all.
DNS_NAME_PATTERN = rf"^{_LABEL}(\.{_LABEL})*\.?$"
HOST_PATTERN = rf"^(\*\.)?{_LABEL}(\.{_LABEL})*\.?$"


class Ref(Struct, frozen=True):
    """Marks a string as the name of another object of the plan; `kind` says of which kind."""

    kind: str

    def __get_pydantic_json_schema__(self, core_schema: CoreSchema, handler: GetJsonSchemaHandler) -> JsonSchemaValue:
        """Tells readers of the schema, too, what the string names."""
        return {**handler(core_schema), "x-refers-to": self.kind}


class PlanModel(BaseModel):
    """Base of everything in a plan: immutable, no unknown fields, no coercion of one type into another."""

    model_config = ConfigDict(
        extra="forbid",
        frozen=True,
        strict=True,
        allow_inf_nan=False,
        validate_by_name=True,
        validate_by_alias=True,
        # Only the whole document is validated, so only its validator is built: that halves the time to start.
        defer_build=True,
    )

    @classmethod
    def __get_pydantic_json_schema__(cls, core_schema: CoreSchema, handler: GetJsonSchemaHandler) -> JsonSchemaValue:
        """Tells readers of the schema what each field is called, in which unit, and a sample."""
        schema = handler(core_schema)
        for field, one in handler.resolve_ref_schema(schema).get("properties", {}).items():
            one.update(hints(field))
        return schema


# A plan is read whole after each edit, with the same addresses and networks as before.
@lru_cache(maxsize=4096)
def _usual_address(text: str) -> str:
    return str(ipaddress.ip_address(text))


@lru_cache(maxsize=4096)
def _usual_network(text: str) -> str:
    return str(ipaddress.ip_network(text))


def _address(text: str) -> str:
    try:
        return _usual_address(text)
    except ValueError as error:
        raise ValueError(f"{text!r} is not an IPv4 or IPv6 address") from error


def check_cidr(text: str) -> str:
    """Returns the network in its usual spelling; raises ValueError that names the network that was perhaps meant."""
    try:
        return _usual_network(text)
    except ValueError as error:
        raise ValueError(_nearest_network(text)) from error


def _nearest_network(text: str) -> str:
    try:
        meant = ipaddress.ip_network(text, strict=False)
    except ValueError:
        return f"{text!r} is not a network such as 10.20.0.0/16 or 2001:db8::/48"
    return f"{text!r} has bits set beyond its prefix; the network that holds it is {meant}"


def _port_range(text: str) -> str:
    found = re.fullmatch(r"(\d{1,5})(?:-(\d{1,5}))?", text)
    if not found:
        raise ValueError(f"{text!r} is not a port or a range such as 8000-8099")
    low, high = int(found[1]), int(found[2] or found[1])
    if not 1 <= low <= high <= 65535:
        raise ValueError(f"{text!r} is not a range of ports between 1 and 65535")
    return text


def _status_range(text: str) -> str:
    found = re.fullmatch(r"(\d{3})(?:-(\d{3}))?", text)
    if not found or not 100 <= int(found[1]) <= int(found[2] or found[1]) <= 599:
        raise ValueError(f"{text!r} is not a status such as 200 or a range such as 200-399")
    return text


def _number_as_text(value: Any) -> Any:
    """YAML reads an unquoted 443 as a number; where a range may stand, its text is meant."""
    return str(value) if isinstance(value, int) and not isinstance(value, bool) else value


Name = Annotated[str, StringConstraints(pattern=NAME_PATTERN)]
DnsName = Annotated[str, StringConstraints(pattern=DNS_NAME_PATTERN, max_length=254)]
HostPattern = Annotated[str, StringConstraints(pattern=HOST_PATTERN, max_length=256)]
Address = Annotated[str, AfterValidator(_address)]
Cidr = Annotated[str, AfterValidator(check_cidr)]
PortRange = Annotated[str, BeforeValidator(_number_as_text), AfterValidator(_port_range)]
StatusRange = Annotated[str, BeforeValidator(_number_as_text), AfterValidator(_status_range)]
Port = Annotated[int, Field(ge=1, le=65535)]
Status = Annotated[int, Field(ge=100, le=599)]
Seconds = Annotated[float, Field(ge=0, le=10_000_000)]
# Below a thousandth of a second nothing of this is set, and time would stand still.
PositiveSeconds = Annotated[float, Field(ge=0.001, le=10_000_000)]
Milliseconds = Annotated[float, Field(ge=0, le=10_000_000)]
Rate = Annotated[float, Field(ge=0, le=1e12)]
PositiveRate = Annotated[float, Field(gt=0, le=1e12)]
Share = Annotated[float, Field(ge=0, le=1)]
Weight = Annotated[int, Field(ge=0, le=1_000_000)]
Count = Annotated[int, Field(ge=0, le=1_000_000)]
PositiveCount = Annotated[int, Field(ge=1, le=1_000_000)]
Factor = Annotated[float, Field(ge=0, le=1_000_000)]
Path = Annotated[str, StringConstraints(pattern=r"^/", max_length=2048)]


def _printable(text: str) -> str:
    """Refuses control characters: a terminal obeys them, and YAML cannot hold all of them."""
    found = next((one for one in text if unicodedata.category(one) == "Cc" and one not in "\n\t\r"), None)
    if found is not None:
        raise ValueError(f"holds the control character U+{ord(found):04X}, which no text may")
    return text


Text = Annotated[str, StringConstraints(max_length=20_000), AfterValidator(_printable)]


def exactly_one(model: BaseModel, fields: tuple[str, ...]) -> str:
    """Returns the one of `fields` that `model` has a value for; raises ValueError when there are none or several."""
    given = [field for field in fields if getattr(model, field) is not None]
    if len(given) != 1:
        wanted = ", ".join(public_name(model, field) for field in fields)
        found = " and ".join(public_name(model, field) for field in given) or "none"
        raise ValueError(f"exactly one of {wanted} must be given; found {found}")
    return given[0]


def public_name(model: BaseModel, field: str) -> str:
    """The name under which `field` stands in the file: its alias if it has one."""
    return type(model).model_fields[field].alias or to_snake(field)


def require_one(*fields: str) -> dict[str, Any]:
    """JSON Schema for "exactly one of these fields": what `exactly_one` checks, for other validators."""
    return {"oneOf": [{"required": [field], "properties": {field: {"not": {"type": "null"}}}} for field in fields]}
