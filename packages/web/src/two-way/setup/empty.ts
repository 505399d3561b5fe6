/** What a setup begins with. */
import type { TwoWayDefinition, TwoWayLane } from '@tide/core/definition/two-way'

export const EMPTY_TWO_WAY: TwoWayDefinition = {
  version: 2,
  shape: 'two-way',
  name: '',
  from: '',
  to: '',
  lanes: [],
}

export const EMPTY_LANE: TwoWayLane = {
  a: '',
  b: '',
  originate: 'both',
  fields: [],
  conflict: 'the later',
  tie: 'a',
  first: 'the later',
}
