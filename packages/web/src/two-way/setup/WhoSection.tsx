import type { LaneForeseen } from '@tide/core/api/two-way'
import type { AppObject } from '@tide/core/app/object'
import { ORIGINATIONS, type TwoWayLane } from '@tide/core/definition/two-way'
import { printCondition } from '@tide/core/scope/condition'
import { useId } from 'react'
import { count } from '../../format.ts'
import { TextButton } from '../../parts/Button.tsx'
import { ConditionLines } from '../../pipelines/setup/ConditionLines.tsx'
import { listOf } from '../../pipelines/setup/conditions.ts'
import { Section, type Turning } from '../../pipelines/setup/Section.tsx'
import { originationSaid, type Called } from '../said.ts'
import { Trial } from './Trial.tsx'

interface WhoProps extends Turning {
  lane: TwoWayLane
  objects: { a: AppObject; b: AppObject }
  called: Called
  foreseen: LaneForeseen | undefined
  change: (part: Partial<TwoWayLane>) => void
}

/** Where new records may start, and which records take part. */
export function WhoSection({ lane, objects, called, foreseen, change, ...turning }: WhoProps) {
  const { scope, trial } = lane
  const conditions = (['a', 'b'] as const).flatMap(side =>
    scope?.[side] ? [`in ${called[side]} ${printCondition(scope[side])}`] : [],
  )
  const says = [
    trial && `on trial with ${trial.a.length + trial.b.length}`,
    originationSaid(lane, called),
    ...conditions,
  ]
    .filter(Boolean)
    .join('; ')
  return (
    <Section {...turning} name="who" title="Who" says={says}>
      <fieldset className="text-[13px]">
        <legend className="mb-1 font-semibold">New records may start</legend>
        {ORIGINATIONS.map(one => (
          <label key={one} className="mr-5 inline-flex items-baseline gap-2">
            <input
              type="radio"
              name="originate"
              checked={lane.originate === one}
              onChange={() => change({ originate: one })}
            />
            {one === 'both' ? 'in both' : one === 'neither' ? 'in neither' : `in ${called[one]}`}
          </label>
        ))}
        <p className="mt-1 text-ink-2">Of edits this says nothing: they follow the fields.</p>
      </fieldset>
      {(['a', 'b'] as const).map(side => (
        <SideScope
          key={side}
          side={side}
          lane={lane}
          object={objects[side]}
          called={called[side]}
          foreseen={foreseen}
          change={change}
        />
      ))}
      <Trial lane={lane} called={called} foreseen={foreseen} change={change} />
    </Section>
  )
}

interface SideScopeProps {
  side: 'a' | 'b'
  lane: TwoWayLane
  object: AppObject
  called: string
  foreseen: LaneForeseen | undefined
  change: (part: Partial<TwoWayLane>) => void
}

function SideScope({ side, lane, object, called, foreseen, change }: SideScopeProps) {
  const listId = useId()
  const where = lane.scope?.[side]
  const list = where ? listOf(where) : { join: 'all' as const, parts: [] }
  const put = (next: typeof where) => {
    const others = Object.entries(lane.scope ?? {}).filter(([of]) => of !== side)
    change({ scope: Object.fromEntries(next ? [...others, [side, next]] : others) })
  }
  return (
    <div className="mt-3 text-[13px]">
      <div className="flex items-baseline gap-3">
        <h3 className="font-semibold">
          {object.title} of {called}
        </h3>
        <span className="text-ink-2">
          {foreseen
            ? `${count(foreseen.inScope[side])} of ${count(foreseen.records[side])} take part by themselves`
            : where
              ? ''
              : 'all of them'}
        </span>
      </div>
      <datalist id={listId}>
        {object.fields.map(({ name }) => (
          <option key={name} value={name} />
        ))}
      </datalist>
      {list && list.parts.length > 0 ? (
        <ConditionLines
          what={`${object.title} of ${called}`}
          list={list}
          listId={listId}
          mayBeEmpty
          change={next => put('all' in next && next.all.length === 0 ? undefined : next)}
        />
      ) : list ? (
        <TextButton
          onClick={() =>
            put({
              all: [
                {
                  column: object.fields.find(({ type }) => type.kind === 'list')?.name ?? object.key,
                  op: 'contains',
                  value: '',
                },
              ],
            })
          }
        >
          Only those for which …
        </TextButton>
      ) : (
        <p className="font-mono text-[12px]">
          {printCondition(where!)} <TextButton onClick={() => put(undefined)}>Remove</TextButton>
        </p>
      )}
    </div>
  )
}
