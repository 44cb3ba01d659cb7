/** Everything of a plan that can be found by its name, and how well it fits what is typed. Pure. */
import type { PlanDocument } from "../api/client";
import { KINDS, OBJECT_KINDS, objectsOf } from "../plan/names";
import type { Selection } from "../plan/selection";

export interface Findable {
  /** What stands there, and what that is. */
  title: string;
  words: string;
  to: { select: Selection } | { drill: string };
}

/** Every object, and what stands within others: zones, subnets, listeners, rules, fronts, and every single target. */
export function findable(document: PlanDocument): Findable[] {
  const seen = (title: string, words: string, select: Selection): Findable => ({ title, words, to: { select } });
  const objects = OBJECT_KINDS.filter((kind) => kind !== "drill").flatMap((kind) => objectsOf(document, kind).map((one) => seen(one.name, KINDS[kind].words, { kind, name: one.name })));
  const drills = document.drills.map((one): Findable => ({ title: one.title || one.name, words: `drill ${one.name}`, to: { drill: one.name } }));
  const zones = document.regions.flatMap((region) => region.zones.map((name) => seen(name, `zone of ${region.name}`, { kind: "zone", name })));
  const subnets = document.networks.flatMap((network) => network.subnets.map((one) => seen(one.name, `subnet of ${network.name}`, { kind: "network", name: network.name })));
  return [...objects, ...drills, ...zones, ...subnets, ...partsOfBalancers(document, seen), ...targets(document, seen)];
}

type Seen = (title: string, words: string, select: Selection) => Findable;

function partsOfBalancers(document: PlanDocument, seen: Seen): Findable[] {
  return document.balancers.flatMap((balancer) => [
    ...balancer.listeners.flatMap((one) => {
      const listener: Selection = { kind: "listener", name: `${balancer.name}/${one.name}` };
      return [seen(`${one.protocol} ${one.port}`, `listener ${one.name} of ${balancer.name}`, listener), ...one.rules.map((rule) => seen(rule.name, `rule of ${balancer.name} ${one.name}`, listener))];
    }),
    ...Object.keys(balancer.zones).map((zone) => seen(`front ${zone}`, `front of ${balancer.name}`, { kind: "front", name: `${balancer.name}/${zone}` })),
  ]);
}

function targets(document: PlanDocument, seen: Seen): Findable[] {
  return document.target_groups.flatMap((group) =>
    group.targets.flatMap((target) => {
      const count = document.fleets.find((one) => one.name === target.fleet)?.count ?? 0;
      const members = Array.from({ length: count }, (_, place) => `${target.fleet}-${place + 1}`);
      const single = target.instance ?? target.address ?? target.host;
      const names = target.fleet ? members : single ? [single] : [];
      return names.map((name) => seen(name, `target of ${group.name}`, { kind: "berth", name: `${group.name}/${name}` }));
    }),
  );
}

/** The best of these for what is typed: every word must be found; at the beginning of a title, or the whole of it, counts more. */
export function best<Item extends { title: string; words: string }>(items: readonly Item[], typed: string, most: number): Item[] {
  const wanted = typed.toLowerCase().split(/\s+/).filter(Boolean);
  const whole = wanted.join(" ");
  const score = ({ title, words }: Item) => {
    const name = title.toLowerCase();
    const text = `${name} ${words.toLowerCase()}`;
    if (!wanted.every((word) => text.includes(word))) return 0;
    if (name === whole) return 4;
    if (name.startsWith(whole)) return 3;
    return wanted.every((word) => name.includes(word)) ? 2 : 1;
  };
  return items
    .map((item, place) => ({ item, place, score: score(item) }))
    .filter((one) => one.score > 0)
    .sort((a, b) => b.score - a.score || a.place - b.place)
    .slice(0, most)
    .map((one) => one.item);
}
