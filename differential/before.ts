/** Tables that others have made, almost as a plan would have made them: some columns are wider, and some are missing. */
import type { Lane, WrittenColumn } from '@tide/core/plan/lane'
import type { Plan } from '@tide/core/plan/plan'
import type { TargetProfile } from '@tide/core/plan/input'
import { statusTableNames } from '@tide/core/plan/status'
import type { LogicalType } from '@tide/core/records/types'
import type { Random } from '../soak/random.ts'
import { STATUS } from './following.ts'

export function madeBefore(plan: Plan, profile: TargetProfile, random: Random): Plan {
  const lanes = plan.lanes.map(({ history: _, ...lane }) => {
    const missing = lane.writes.find(
      ({ name, nullable, value }) =>
        nullable && !lane.key.includes(name) && value.from === 'column' && random.chance(0.3),
    )
    const writes = lane.writes.filter(column => column !== missing)
    return { ...lane, writes: writes.map(column => widened(column, lane, profile, random)) }
  })
  const said = new Set(statusTableNames(STATUS, plan.lanes).map(table => JSON.stringify(table)))
  const steps = plan.steps.flatMap(step => {
    if (step.step !== 'create table') return step
    const lane = lanes.find(({ target }) => JSON.stringify(target) === JSON.stringify(step.table))
    // Others have kept no history.
    return said.has(JSON.stringify(step.table)) ? step : lane ? { ...step, columns: lane.writes } : []
  })
  return { ...plan, lanes, steps }
}

function widened(column: WrittenColumn, lane: Lane, profile: TargetProfile, random: Random): WrittenColumn {
  if (lane.key.includes(column.name) || random.chance(0.4)) return column
  const wider = widerType(column.type)
  if (!wider || column.value.from !== 'column') return { ...column, nullable: true }
  const { native } = profile.typeOf({ type: wider, nativeType: '', sameKind: false, keyParts: 0 })
  return { ...column, nativeType: native, nullable: true }
}

function widerType(type: LogicalType): LogicalType | undefined {
  switch (type.kind) {
    case 'int':
      return type.bits === 64 ? { kind: 'decimal', precision: 24, scale: 0 } : { ...type, bits: 64 }
    case 'decimal':
      return type.precision === undefined || type.precision > 30 || (type.scale ?? 0) < 0
        ? undefined
        : { ...type, precision: type.precision + 4 }
    default:
      return undefined
  }
}
