import type { TwoWayLook } from '@tide/core/api/two-way'
import type { AppField, AppObject } from '@tide/core/app/object'
import type { TwoWayLane } from '@tide/core/definition/two-way'
import { useState } from 'react'
import { Button } from '../../parts/Button.tsx'
import { InlineSelect } from '../../parts/Field.tsx'
import type { Called } from '../said.ts'
import { MakeFields } from './MakeFields.tsx'

interface NotJoinedProps {
  lane: TwoWayLane
  objects: { a: AppObject; b: AppObject }
  called: Called
  connections: { a: string; b: string }
  makes: TwoWayLook['makes']
  change: (part: Partial<TwoWayLane>) => void
}

/** Fields of both sides that are in no pair, to be joined by choosing one on each side; and the fields that take the other's key. */
export function NotJoined({ lane, objects, called, connections, makes, change }: NotJoinedProps) {
  const [chosen, setChosen] = useState<{ a?: string; b?: string }>({})
  const free = (side: 'a' | 'b') => {
    const { key, version, changed, created, fields } = objects[side]
    const own = [key, version, changed, created, lane.links?.[side]]
    return fields.filter(
      ({ name, required }) =>
        !lane.fields.some(join => join[side] === name) &&
        // A key that nobody gives but the one who makes the record is a field like others.
        (!own.includes(name) || (name === key && required)),
    )
  }
  const join = (a: string, b: string) => {
    const [one, two] = [free('a').find(({ name }) => name === a), free('b').find(({ name }) => name === b)]
    const direction = one?.readOnly ? 'a to b' : two?.readOnly ? 'b to a' : 'both'
    change({ fields: [...lane.fields, { a, b, direction }] })
    setChosen({})
  }
  const choose = (side: 'a' | 'b', name: string) =>
    setChosen({ ...chosen, [side]: chosen[side] === name ? undefined : name })
  const { a, b } = chosen
  const links = (side: 'a' | 'b') => [
    { value: '', title: 'no field' },
    ...objects[side].fields
      .filter(
        ({ name, readOnly, type }) =>
          !readOnly && type.kind === 'utf8' && !lane.fields.some(one => one[side] === name),
      )
      .map(({ name, title }) => ({ value: name, title })),
  ]
  return (
    <>
      <h3 className="mt-4 text-[13px] font-semibold">
        Not joined <span className="font-normal text-ink-2">choose one on each side, and join them</span>
      </h3>
      <div className="mt-1 grid grid-cols-2 gap-4 text-[13px]">
        {(['a', 'b'] as const).map(side => (
          <div key={side} role="group" aria-label={`Fields of ${called[side]} that are not joined`}>
            {free(side).map(field => (
              <button
                key={field.name}
                type="button"
                aria-pressed={chosen[side] === field.name}
                className={`mr-2 mb-1 rounded-sm border px-1.5 py-0.5 ${chosen[side] === field.name ? 'border-ink font-semibold' : 'border-line-2'}`}
                title={factsOf(field)}
                onClick={() => choose(side, field.name)}
              >
                {field.title}
                {field.readOnly && <span className="text-ink-2"> cannot be written</span>}
              </button>
            ))}
            {free(side).length === 0 && <span className="text-ink-2">none</span>}
          </div>
        ))}
      </div>
      {a !== undefined && b !== undefined && (
        <p className="mt-1">
          <Button onClick={() => join(a, b)}>
            Join {a} and {b}
          </Button>
        </p>
      )}
      {(['a', 'b'] as const).map(side => {
        const far = side === 'a' ? 'b' : 'a'
        const picked = chosen[far]
        if (!makes[side] || !objects[side].can.change || chosen[side] !== undefined) return null
        return (
          <p key={side} className="mt-1 text-[13px]">
            <MakeFields
              lane={lane}
              side={side}
              connection={connections[side]}
              called={called[side]}
              from={connections[far]}
              far={objects[far]}
              free={free(far).filter(({ name }) => picked === undefined || name === picked)}
              change={part => {
                change(part)
                setChosen({})
              }}
            />
          </p>
        )
      })}
      <p className="mt-3 flex flex-wrap items-baseline gap-x-5 gap-y-1 text-[13px] text-ink-2">
        The key of the other half is written to
        {(['a', 'b'] as const).map(side => (
          <label key={side} className="flex items-baseline gap-2">
            <InlineSelect
              label={`Field of ${called[side]} that takes the key of the other half`}
              value={lane.links?.[side] ?? ''}
              options={links(side)}
              onChange={({ target }) => {
                const next = { ...lane.links, [side]: target.value }
                if (target.value === '') delete next[side]
                change({ links: next })
              }}
            />
            of {called[side]}
          </label>
        ))}
      </p>
    </>
  )
}

function factsOf({ nativeType, choices, refers, required }: AppField): string {
  return [nativeType, required && 'required', refers && `links to ${refers}`, choices?.join(' | ')]
    .filter(Boolean)
    .join(', ')
}
