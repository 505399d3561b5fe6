import type { AppObject } from '@tide/core/app/object'
import {
  EVERY_SECONDS,
  GONE_GUARD,
  SWEEP_MINUTES,
  type GonePolicy,
  type TwoWayDefinition,
  type TwoWayLane,
} from '@tide/core/definition/two-way'
import { InlineField, InlineSelect } from '../../parts/Field.tsx'
import { Section, type Turning } from '../../pipelines/setup/Section.tsx'
import type { Called } from '../said.ts'

interface GoneProps extends Turning {
  lane: TwoWayLane
  definition: TwoWayDefinition
  objects: { a: AppObject; b: AppObject }
  called: Called
  change: (part: Partial<TwoWayLane>) => void
  changeAll: (part: Partial<TwoWayDefinition>) => void
}

/** What becomes of the other half of a record that goes, and how often it is looked. */
export function GoneSection({ lane, definition, objects, called, change, changeAll, ...turning }: GoneProps) {
  const { every = EVERY_SECONDS, sweep = SWEEP_MINUTES, guard = GONE_GUARD } = definition
  const policyOf = (side: 'a' | 'b'): GonePolicy => lane.gone?.[side] ?? 'leave'
  const said = (policy: GonePolicy) =>
    policy === 'leave' ? 'left' : policy === 'delete' ? 'deleted' : `marked ${policy.as}`
  const says = `deleted in ${called.a}: ${said(policyOf('a'))}; in ${called.b}: ${said(policyOf('b'))}; looks every ${every} s`
  return (
    <Section {...turning} name="gone" title="When gone" says={says}>
      {(['a', 'b'] as const).map(side => {
        const policy = policyOf(side)
        const there = side === 'a' ? 'b' : 'a'
        const put = (next: GonePolicy) => change({ gone: { ...lane.gone, [side]: next } })
        return (
          <p
            key={side}
            className="flex flex-wrap items-baseline gap-2 border-b border-line py-1.5 text-[13px]"
          >
            A record that is deleted in {called[side]}
            <InlineSelect
              label={`When a record of ${called[side]} is deleted`}
              value={typeof policy === 'string' ? policy : 'mark'}
              options={[
                { value: 'leave', title: `is left in ${called[there]}` },
                { value: 'delete', title: `is deleted in ${called[there]}` },
                { value: 'mark', title: `is marked in ${called[there]}` },
              ]}
              onChange={({ target }) =>
                put(
                  target.value === 'mark'
                    ? { mark: objects[there].fields.find(({ readOnly }) => !readOnly)?.name ?? '', as: '' }
                    : (target.value as 'leave' | 'delete'),
                )
              }
            />
            {typeof policy === 'object' && (
              <>
                <InlineSelect
                  label={`Field of ${called[there]} that is marked`}
                  value={policy.mark}
                  options={objects[there].fields
                    .filter(({ readOnly }) => !readOnly)
                    .map(({ name, title }) => ({ value: name, title }))}
                  onChange={({ target }) => put({ ...policy, mark: target.value })}
                />
                as
                <InlineField
                  label={`Mark in ${called[there]}`}
                  value={policy.as}
                  onChange={({ target }) => put({ ...policy, as: target.value })}
                />
              </>
            )}
          </p>
        )
      })}
      <p className="flex items-baseline gap-2 border-b border-line py-1.5 text-[13px]">
        Where one half was edited and the other deleted,
        <InlineSelect
          label="Edited and deleted"
          value={lane.editedAndGone ?? 'ask'}
          options={[
            { value: 'ask', title: 'a person decides' },
            { value: 'the deletion wins', title: 'the deletion wins' },
            { value: 'the edit wins', title: 'the edit wins, and it is made anew' },
          ]}
          onChange={({ target }) => change({ editedAndGone: target.value as TwoWayLane['editedAndGone'] })}
        />
      </p>
      <p className="mt-2 flex flex-wrap items-baseline gap-2 text-[13px]">
        For all lanes: changes are looked for every
        <InlineField
          label="Seconds between two looks"
          className="w-16"
          type="number"
          min={1}
          max={86_400}
          value={every}
          onChange={({ target }) => changeAll({ every: whole(target.value) ?? every })}
        />
        s, deletions every
        <InlineField
          label="Minutes between two sweeps"
          className="w-16"
          type="number"
          min={1}
          max={10_080}
          value={sweep}
          onChange={({ target }) => changeAll({ sweep: whole(target.value) ?? sweep })}
        />
        min; asked before more than
        <InlineField
          label="Share of pairs that may be gone, in percent"
          className="w-16"
          type="number"
          min={1}
          max={100}
          value={guard.percent}
          onChange={({ target }) =>
            changeAll({ guard: { ...guard, percent: Math.min(100, whole(target.value) ?? guard.percent) } })
          }
        />
        % of the pairs, and more than
        <InlineField
          label="Records that may be gone"
          className="w-16"
          type="number"
          min={0}
          value={guard.records}
          onChange={({ target }) =>
            changeAll({
              guard: { ...guard, records: target.value === '0' ? 0 : (whole(target.value) ?? guard.records) },
            })
          }
        />
        records, are taken for gone.
      </p>
    </Section>
  )
}

function whole(text: string): number | undefined {
  const number = Number(text)
  return Number.isInteger(number) && number > 0 ? number : undefined
}
