import type { LaneForeseen } from '@tide/core/api/two-way'
import type { AppObject } from '@tide/core/app/object'
import { CONFLICTS, FIRSTS, type TwoWayLane } from '@tide/core/definition/two-way'
import { MADE_ALIKE } from '@tide/core/pairing/alike'
import { count } from '../../format.ts'
import { TextButton } from '../../parts/Button.tsx'
import { InlineSelect } from '../../parts/Field.tsx'
import { Section, type Turning } from '../../pipelines/setup/Section.tsx'
import type { Called } from '../said.ts'

interface ThereProps extends Turning {
  lane: TwoWayLane
  objects: { a: AppObject; b: AppObject }
  called: Called
  foreseen: LaneForeseen | undefined
  change: (part: Partial<TwoWayLane>) => void
}

type Rules = NonNullable<TwoWayLane['pair']>

const WAYS: Record<(typeof MADE_ALIKE)[number], string> = {
  case: 'whatever the case',
  spaces: 'whatever the spaces',
  'digits only': 'digits only',
}

/** What is on both sides already: how it is found, whose values are taken first, and how conflicts end from then on. */
export function ThereSection({ lane, objects, called, foreseen, change, ...turning }: ThereProps) {
  const { pair = [], first } = lane
  const says =
    pair.length === 0
      ? 'nothing is looked for'
      : `${pair.map(({ fields }) => fields.map(({ a }) => a).join(' and ')).join(', else ')}${foreseen ? `: ${count(foreseen.paired)} paired` : ''}`
  const put = (rules: Rules) => change({ pair: rules })
  const putField = (i: number, n: number, part: Partial<Rules[number]['fields'][number]>) =>
    put(
      pair.map((rule, at) =>
        at === i
          ? { fields: rule.fields.map((one, place) => (place === n ? { ...one, ...part } : one)) }
          : rule,
      ),
    )
  const blank = {
    a: objects.a.label ?? objects.a.key,
    b: objects.b.label ?? objects.b.key,
    alike: ['case' as const, 'spaces' as const],
  }
  const firstSaid = {
    'the later': 'the later edit is taken',
    a: `${called.a}’s is taken`,
    b: `${called.b}’s is taken`,
    'fill what is empty': 'both stay, and only what is empty is filled',
  }
  const conflictSaid = {
    'the later': 'the later edit counts',
    a: `${called.a} counts`,
    b: `${called.b} counts`,
    ask: 'a person decides, in Held',
  }
  return (
    <Section {...turning} name="there" title="Both sides" says={says}>
      <p className="text-[13px] text-ink-2">
        Records that are on both sides already are the same where these fields say the same, and just one on
        each side does. Doubles, and what is almost the same, wait for a person.
      </p>
      {pair.map((rule, i) => (
        <div key={i} className="border-b border-line py-1.5 text-[13px]">
          {rule.fields.map((one, n) => (
            <p key={n} className="flex flex-wrap items-baseline gap-2">
              <span className="w-14 text-ink-2">{n > 0 ? 'and' : i === 0 ? 'by' : 'else by'}</span>
              {(['a', 'b'] as const).map(side => (
                <span key={side} className="flex items-baseline gap-2">
                  {side === 'b' && 'is'}
                  <InlineSelect
                    label={`Field of ${called[side]} in pairing ${i + 1}${n > 0 ? `, ${n + 1}` : ''}`}
                    value={one[side]}
                    options={objects[side].fields.map(({ name, title }) => ({ value: name, title }))}
                    onChange={({ target }) => putField(i, n, { [side]: target.value })}
                  />
                </span>
              ))}
              {MADE_ALIKE.map(way => (
                <label key={way} className="text-ink-2">
                  <input
                    type="checkbox"
                    checked={one.alike.includes(way)}
                    onChange={({ target }) =>
                      putField(i, n, {
                        alike: target.checked
                          ? [...one.alike, way]
                          : one.alike.filter(other => other !== way),
                      })
                    }
                  />{' '}
                  {WAYS[way]}
                </label>
              ))}
              <TextButton
                className="ml-auto"
                aria-label={`Remove field ${n + 1} of pairing ${i + 1}`}
                onClick={() =>
                  put(
                    rule.fields.length === 1
                      ? pair.toSpliced(i, 1)
                      : pair.map((other, at) => (at === i ? { fields: rule.fields.toSpliced(n, 1) } : other)),
                  )
                }
              >
                Remove
              </TextButton>
            </p>
          ))}
          <TextButton
            onClick={() =>
              put(pair.map((other, at) => (at === i ? { fields: [...rule.fields, blank] } : other)))
            }
          >
            And another field
          </TextButton>
        </div>
      ))}
      <p className="mt-2 text-[13px]">
        <TextButton onClick={() => put([...pair, { fields: [blank] }])}>
          {pair.length === 0 ? 'Look for what is the same' : 'Else by another field'}
        </TextButton>
      </p>
      <p className="mt-3 flex flex-wrap items-baseline gap-x-6 gap-y-2 text-[13px]">
        <label className="flex items-baseline gap-2">
          Where they differ,
          <InlineSelect
            label="Whose values are taken first"
            value={first}
            options={FIRSTS.map(value => ({ value, title: firstSaid[value] }))}
            onChange={({ target }) => change({ first: target.value as TwoWayLane['first'] })}
          />
        </label>
        <label className="flex items-baseline gap-2">
          From then on, in a conflict
          <InlineSelect
            label="In a conflict"
            value={lane.conflict}
            options={CONFLICTS.map(value => ({ value, title: conflictSaid[value] }))}
            onChange={({ target }) => change({ conflict: target.value as TwoWayLane['conflict'] })}
          />
        </label>
        {lane.conflict === 'the later' && (
          <label className="flex items-baseline gap-2">
            at the same time
            <InlineSelect
              label="Who wins at the same time"
              value={lane.tie}
              options={(['a', 'b'] as const).map(value => ({ value, title: called[value] }))}
              onChange={({ target }) => change({ tie: target.value as 'a' | 'b' })}
            />
          </label>
        )}
      </p>
    </Section>
  )
}
