/** Where values that refer to other records lead on the other side. */
import type { PlaceSide } from '@tide/connectors/contract/app'
import type { Found } from '@tide/core/merge/rule'
import { other, type Side } from '@tide/core/merge/rule'
import type { Find } from '@tide/core/two-way/decide'
import { SIDES, type CompiledLane, type Through } from '@tide/core/two-way/lane'
import type { Pair } from '@tide/core/two-way/pair'

export interface PairLookup {
  /** Pairs of a lane, by the keys of their records on a side. */
  find(lane: string, side: Side, keys: readonly string[]): Promise<Pair[]>
}

interface Labels {
  ofKey: Map<string, string>
  keyOf: Map<string, string>
}

/** For one pass: what people call a record is read once, and once more where something is missing. */
export class References {
  private readonly apps: Record<Side, PlaceSide>
  private readonly lookup: PairLookup
  private readonly labels = new Map<string, Labels>()
  private readonly signal: AbortSignal

  constructor(apps: Record<Side, PlaceSide>, lookup: PairLookup, signal: AbortSignal) {
    this.apps = apps
    this.lookup = lookup
    this.signal = signal
  }

  /** Of all values that the pairs hold. */
  async of(lane: CompiledLane, pairs: readonly Pair[]): Promise<Find> {
    const found = new Map<string, Found>()
    for (const [i, through] of lane.throughs.entries()) {
      if (!through) continue
      for (const side of SIDES) {
        const field = lane.merge.joins[i]![side]
        const values = new Set(pairs.flatMap(({ halves }) => halves[side]?.record[field] || []))
        if (values.size === 0) continue
        for (const [value, leads] of await this.lead(through, side, [...values]))
          found.set(JSON.stringify([i, side, value]), leads)
      }
    }
    return (join, value, from) => found.get(JSON.stringify([join, from, value])) ?? 'not yet'
  }

  private async lead(through: Through, side: Side, values: string[]): Promise<Map<string, Found>> {
    const leads = new Map<string, Found>()
    if ('pairs' in through) {
      for (const { halves, state } of await this.lookup.find(through.pairs, side, values)) {
        const far = halves[other(side)]
        if (far && state !== 'apart') leads.set(halves[side]!.id, { is: far.id })
      }
      return leads
    }
    let labels = await this.labelsOf(through, false)
    const from = (one: Labels) => (side === through.labelsOf ? one.ofKey : one.keyOf)
    const named = (value: string) => (side === through.labelsOf ? value : plain(value))
    if (values.some(value => !from(labels).has(named(value)))) labels = await this.labelsOf(through, true)
    for (const value of values) {
      const is = from(labels).get(named(value))
      leads.set(
        value,
        is === undefined
          ? { held: `“${value}” is none of ${this.apps[through.labelsOf].name}’s ${through.object}.` }
          : { is },
      )
    }
    return leads
  }

  private async labelsOf({ labelsOf: side, object }: Extract<Through, { object: string }>, again: boolean) {
    const name = JSON.stringify([side, object])
    const known = this.labels.get(name)
    if (known && !(again && !this.again.has(name))) return known
    if (again) this.again.add(name)
    const app = this.apps[side]
    const { key, label } = (await app.objects()).find(one => one.name === object)!
    const labels: Labels = { ofKey: new Map(), keyOf: new Map() }
    for await (const page of app.list(object, { signal: this.signal }))
      for (const record of page) {
        const [id, called] = [record[key], record[label ?? key]]
        if (!id || !called) continue
        labels.ofKey.set(id, called)
        labels.keyOf.set(plain(called), id)
      }
    this.labels.set(name, labels)
    return labels
  }

  private readonly again = new Set<string>()
}

function plain(label: string): string {
  return label.trim().toLowerCase()
}
