import type { PairSeen } from '@tide/core/api/two-way'
import type { HeldField, PairDecision } from '@tide/core/two-way/pair'
import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { useOutletContext } from 'react-router'
import { api } from '../api/client.ts'
import { plural } from '../format.ts'
import { Button, TextButton } from '../parts/Button.tsx'
import { InlineField } from '../parts/Field.tsx'
import { ErrorNotice } from '../parts/Notice.tsx'
import { askTwoWay } from './deeds.ts'
import { PairSides } from './PairSides.tsx'
import { valueSaid, type Called } from './said.ts'
import type { TwoWayPipeline } from './status.ts'

/** What waits for a person: conflicts, values without a meaning, refusals, records that may be the same; one by one, and many at once. */
export function TwoWayHeld() {
  const { id, fromName, toName, definition, twoWay, state } = useOutletContext<TwoWayPipeline>()
  const [error, setError] = useState<unknown>()
  const [open, setOpen] = useState<string>()
  const called = { a: fromName, b: toName }
  const pairs = useQuery({
    queryKey: ['two-way', id, 'held', twoWay?.last?.endedAt, twoWay?.held],
    queryFn: () => api<PairSeen[]>('GET', `/pipelines/${id}/pairs?${new URLSearchParams({ only: 'held' })}`),
    placeholderData: before => before,
  })
  const can = state === 'Following' || state === 'Paused'
  const act = (deed: Parameters<typeof askTwoWay>[1]) => {
    setError(undefined)
    void askTwoWay(id, deed).catch(setError)
  }
  const rows = (pairs.data ?? []).flatMap(pair => pair.held.map(held => ({ pair, held })))
  const conflicts = new Map<string, string[]>()
  for (const { pair, held } of rows)
    if (held.why === 'conflict' && held.join !== null)
      conflicts.set(held.join, [...(conflicts.get(held.join) ?? []), pair.id])
  const refused = rows.filter(({ held }) => held.why === 'refused').map(({ pair }) => pair.id)
  if (pairs.data && rows.length === 0)
    return (
      <div className="py-3">
        <ErrorNotice error={error} />
        <p className="py-4 text-ink-2">
          Nothing waits for a person. Conflicts come here where a lane or a field asks, values that mean
          nothing on the other side, and what an app has refused.
        </p>
      </div>
    )
  return (
    <div className="py-3">
      <ErrorNotice error={pairs.error ?? error} />
      {[...conflicts].map(([join, of]) =>
        of.length < 2 ? null : (
          <p key={join} className="flex items-baseline gap-3 pb-2 text-[13px]">
            {plural(of.length, 'pair')} differ in <span className="font-mono text-[12px]">{join}</span>:
            {(['a', 'b'] as const).map(side => (
              <Button
                key={side}
                disabled={!can}
                onClick={() =>
                  act({ deed: 'decide', pairs: of, decision: { join, decided: { take: side } } })
                }
              >
                Take {called[side]} for all {of.length}
              </Button>
            ))}
          </p>
        ),
      )}
      {refused.length > 1 && (
        <p className="pb-2">
          <Button disabled={!can} onClick={() => act({ deed: 'try again', pairs: [...new Set(refused)] })}>
            Try these {refused.length} again
          </Button>
        </p>
      )}
      <ul aria-label="What waits for a person">
        {rows.map(({ pair, held }) => {
          const key = `${pair.id} ${held.join} ${held.side} ${held.why}`
          return (
            <li key={key} className="border-b border-line py-2 text-[13px]">
              <div className="flex items-baseline gap-3">
                <TextButton
                  aria-expanded={open === key}
                  onClick={() => setOpen(open === key ? undefined : key)}
                >
                  {pair.label ?? pair.a?.id ?? pair.b?.id ?? pair.id}
                </TextButton>
                <span className="font-mono text-[12px] text-ink-2">{held.join}</span>
                <span className="flex-1">
                  {held.reason} <span className="text-ink-2">{held.remedy}</span>
                </span>
              </div>
              <HeldDeeds
                pair={pair}
                held={held}
                called={called}
                can={can}
                values={valuesOf(pair, held)}
                decide={decision => act({ deed: 'decide', pairs: [pair.id], decision })}
                again={() => act({ deed: 'try again', pairs: [pair.id] })}
              />
              {open === key && (
                <div className="mt-2 bg-paper-2 px-3 py-2">
                  <PairSides pair={pair} definition={definition} called={called} />
                </div>
              )}
            </li>
          )
        })}
      </ul>
    </div>
  )
}

/** What both halves say in the field that is held. */
function valuesOf(pair: PairSeen, { join }: HeldField): { a: string | null; b: string | null } | undefined {
  if (join === null) return undefined
  const [a, b] = join.split(' ↔ ')
  return { a: pair.a?.values[a!] ?? null, b: pair.b?.values[b!] ?? null }
}

interface HeldDeedsProps {
  pair: PairSeen
  held: HeldField
  called: Called
  can: boolean
  values: { a: string | null; b: string | null } | undefined
  decide: (decision: PairDecision) => void
  again: () => void
}

function HeldDeeds({ pair, held, called, can, values, decide, again }: HeldDeedsProps) {
  const [text, setText] = useState('')
  const { join, why, side } = held
  if (why === 'may be the same')
    return (
      <p className="mt-1 flex flex-wrap items-baseline gap-3">
        {held.others?.map(other => (
          <Button key={other} disabled={!can} onClick={() => decide({ same: other })}>
            It is {other}
          </Button>
        ))}
        <Button disabled={!can} onClick={() => decide({ same: null })}>
          It is none of them
        </Button>
      </p>
    )
  if (why === 'edited and gone')
    return (
      <p className="mt-1 flex gap-3">
        <Button disabled={!can} onClick={() => decide({ wins: 'the deletion' })}>
          Delete it, too
        </Button>
        <Button disabled={!can} onClick={() => decide({ wins: 'the edit' })}>
          Make it anew
        </Button>
      </p>
    )
  if (join !== null && why === 'conflict' && values)
    return (
      <p className="mt-1 flex flex-wrap items-baseline gap-3">
        {(['a', 'b'] as const).map(one => (
          <Button key={one} disabled={!can} onClick={() => decide({ join, decided: { take: one } })}>
            Take {called[one]}: {valueSaid(values[one])}
          </Button>
        ))}
        <InlineField
          label={`Another value for ${join}, as ${called.a} writes it`}
          placeholder={`another, as ${called.a} writes it`}
          className="w-56"
          value={text}
          onChange={event => setText(event.target.value)}
        />
        <Button disabled={!can || text === ''} onClick={() => decide({ join, decided: { type: text } })}>
          Write it on both
        </Button>
      </p>
    )
  return (
    <p className="mt-1 flex flex-wrap items-baseline gap-3">
      {join !== null && side !== null && pair.a && pair.b && (
        <>
          <InlineField
            label={`Value for ${called[side]} in ${join}`}
            placeholder={`what it is in ${called[side]}`}
            className="w-56"
            value={text}
            onChange={event => setText(event.target.value)}
          />
          <Button
            disabled={!can || text === ''}
            onClick={() => decide({ join, decided: { put: text, on: side } })}
          >
            Write it in {called[side]}
          </Button>
        </>
      )}
      {why === 'refused' && (
        <Button disabled={!can} onClick={again}>
          Try again
        </Button>
      )}
    </p>
  )
}
