"""What contradicts itself as it is written, or stands in the way of any run."""

from collections.abc import Iterator

from northgate.engine.network import OBSTACLES, unknown_latencies
from northgate.plan.checks import CHECKS
from northgate.review.context import Context
from northgate.review.registry import Found, finding


@finding("dangling-reference", "stops")
def dangling_reference(context: Context) -> Iterator[Found]:
    """Something is referred to by a name that nothing in the plan has.

    Whatever needs it cannot work; until it is there, nothing of the plan can be computed.
    """
    yield from context.told(OBSTACLES["dangling-reference"](context.plan), "add it, or name what is meant")


@finding("probe-impatient", "stops")
def probe_impatient(context: Context) -> Iterator[Found]:
    """A probe waits longer for an answer than until it sends the next: results would overtake each other."""
    probes = {probe.name: (index, probe) for index, probe in enumerate(context.plan.probes)}
    for found in context.told(OBSTACLES["probe-impatient"](context.plan), ""):
        _, probe = probes[found.about]
        patch = ({"op": "replace", "path": found.where, "value": probe.interval_s},)
        yield Found(found.where, found.about, found.message, f"give up after {probe.interval_s:g} s", patch)


@finding("unknown-host", "stops")
def unknown_host(context: Context) -> Iterator[Found]:
    """Clients ask a host for which no name of the plan answers."""
    yield from context.told(OBSTACLES["unknown-host"](context.plan), "add the name, or ask one that the plan has")


@finding("name-probe-port", "stops")
def name_probe_port(context: Context) -> Iterator[Found]:
    """The probe of a name has no port to ask: a name has none of its own that it could take."""
    yield from context.told(OBSTACLES["name-probe-port"](context.plan), "give the probe a port of its own")


@finding("late-step", "stops")
def late_step(context: Context) -> Iterator[Found]:
    """A step of a drill comes after the drill has ended."""
    yield from context.told(OBSTACLES["late-step"](context.plan), "let the drill last longer, or the step come sooner")


@finding("straight-to-instance", "stops")
def straight_to_instance(context: Context) -> Iterator[Found]:
    """A name or a client leads to the private address of an instance, where no front takes requests."""
    remedy = "lead to a balancer, or to the instance's public address"
    yield from context.told(OBSTACLES["straight-to-instance"](context.plan), remedy)


@finding("no-address", "stops")
def no_address(context: Context) -> Iterator[Found]:
    """A name leads to an instance that has no public address at which clients could reach it."""
    yield from context.told(OBSTACLES["no-address"](context.plan), "give the instance a public address")


@finding("port-twice", "stops")
def port_twice(context: Context) -> Iterator[Found]:
    """Two listeners of a balancer take the same port: the second never gets a request."""
    yield from context.told(CHECKS["port-twice"](context.plan), "give one of them another port, or remove it")


@finding("certificate-missing", "stops")
def certificate_missing(context: Context) -> Iterator[Found]:
    """A listener speaks an encrypted protocol without a certificate: no client completes a handshake."""
    certificates = context.plan.certificates
    only = certificates[0].name if len(certificates) == 1 else None
    for found in context.told(CHECKS["certificate-missing"](context.plan), "give it a certificate"):
        if only is None:
            yield found
        else:
            patch = ({"op": "add", "path": found.where, "value": only},)
            yield Found(found.where, found.about, found.message, f"give it the certificate {only}", patch)


@finding("subnet-astray", "stops")
def subnet_astray(context: Context) -> Iterator[Found]:
    """A subnet leaves its network, or overlaps another subnet of it."""
    yield from context.told(CHECKS["subnet-astray"](context.plan), "give it a range of its own within the network")


@finding("address-twice", "stops")
def address_twice(context: Context) -> Iterator[Found]:
    """Two objects have the same address: who gets a packet is left to chance."""
    yield from context.told(CHECKS["address-twice"](context.plan), "give one of them another address, or none")


@finding("subnet-elsewhere", "stops")
def subnet_elsewhere(context: Context) -> Iterator[Found]:
    """Something stands in one zone, and its subnet is in another zone or region."""
    yield from context.told(CHECKS["subnet-elsewhere"](context.plan), "take a subnet of its own zone")


@finding("address-outside-subnet", "stops")
def address_outside_subnet(context: Context) -> Iterator[Found]:
    """An instance's address is not one of its subnet: no route leads there."""
    for found in context.told(CHECKS["address-outside-subnet"](context.plan), "let it take the next free address"):
        yield Found(found.where, found.about, found.message, found.remedy, ({"op": "remove", "path": found.where},))


@finding("names-alike", "advice")
def names_alike(context: Context) -> Iterator[Found]:
    """Two DNS names differ only by case or a final dot: to a resolver they are one."""
    yield from context.told(CHECKS["names-alike"](context.plan), "keep one of them")


@finding("replaces-nothing", "advice")
def replaces_nothing(context: Context) -> Iterator[Found]:
    """The platform's list of settings that need a replacement names one that does not exist."""
    yield from context.told(CHECKS["replaces-nothing"](context.plan), "name a field, such as balancer.layer")


@finding("count-beyond-scale", "risks")
def count_beyond_scale(context: Context) -> Iterator[Found]:
    """A fleet starts with fewer instances than its autoscaler's least, or with more than its most."""
    yield from context.told(CHECKS["count-beyond-scale"](context.plan), "start within what it scales between")


@finding("cookie-unseen", "risks")
def cookie_unseen(context: Context) -> Iterator[Found]:
    """Sessions are to be kept by cookie behind layer 4 balancers alone, which never see one."""
    for found in context.told(CHECKS["cookie-unseen"](context.plan), "keep sessions by source"):
        patch = ({"op": "replace", "path": found.where, "value": "source"},)
        yield Found(found.where, found.about, found.message, found.remedy, patch)


@finding("latency-unknown", "risks")
def latency_unknown(context: Context) -> Iterator[Found]:
    """Something takes the nearest region, and the plan does not tell how far one is from an area that asks: it counts
    as infinitely far."""
    yield from context.told(unknown_latencies(context.plan), "tell the area's latency to that region")
