import type { AppField } from '@tide/core/app/object'
import type { TwoWayJoin, TwoWayRule } from '@tide/core/definition/two-way'
import { useId } from 'react'
import { TextButton } from '../../parts/Button.tsx'
import { InlineField, InlineSelect } from '../../parts/Field.tsx'
import type { Called } from '../said.ts'

type Mapped = Extract<TwoWayRule, { as: 'mapped' }>

interface ValueMapTableProps {
  join: TwoWayJoin
  rule: Mapped
  fields: { a: AppField; b: AppField }
  called: Called
  put: (part: Partial<TwoWayJoin>) => void
}

/** Which values mean the same; where several mean one, which of them is taken on the way back. */
export function ValueMapTable({ join, rule, fields, called, put }: ValueMapTableProps) {
  const listId = useId()
  const { pairs, others } = rule.map
  const set = (map: Partial<Mapped['map']>) => put({ rule: { as: 'mapped', map: { ...rule.map, ...map } } })
  const change = (i: number, part: Partial<(typeof pairs)[number]>) =>
    set({ pairs: pairs.map((one, n) => (n === i ? { ...one, ...part } : one)) })
  /** Of those that mean one, just one is the first. */
  const makeFirst = (i: number) =>
    set({
      pairs: pairs.map((one, n) => {
        if (one.b !== pairs[i]!.b && one.a !== pairs[i]!.a) return one
        return n === i ? { ...one, first: true as const } : { a: one.a, b: one.b }
      }),
    })
  const isShared = (pair: (typeof pairs)[number]) =>
    pairs.filter(({ b }) => b === pair.b).length > 1 || pairs.filter(({ a }) => a === pair.a).length > 1
  return (
    <div className="mt-2">
      {(['a', 'b'] as const).map(side => (
        <datalist key={side} id={`${listId}${side}`}>
          {fields[side].choices?.map(one => (
            <option key={one} value={one} />
          ))}
        </datalist>
      ))}
      <table className="border-collapse" aria-label={`Value map of ${join.a}`}>
        <thead>
          <tr className="text-left text-[12px] text-ink-2">
            <th scope="col" className="pr-3 font-semibold">
              {called.a}
            </th>
            <th scope="col" className="pr-3 font-semibold">
              {called.b}
            </th>
            <th scope="col" className="font-semibold">
              <span className="sr-only">Deeds</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {pairs.map((pair, i) => (
            <tr key={i}>
              {(['a', 'b'] as const).map(side => (
                <td key={side} className="py-0.5 pr-3">
                  <InlineField
                    label={`Value ${i + 1} of ${called[side]}`}
                    className="w-40"
                    list={`${listId}${side}`}
                    value={pair[side]}
                    onChange={({ target }) => change(i, { [side]: target.value })}
                  />
                </td>
              ))}
              <td className="py-0.5 text-ink-2">
                {isShared(pair) && (
                  <label className="mr-3">
                    <input type="checkbox" checked={pair.first ?? false} onChange={() => makeFirst(i)} />{' '}
                    taken on the way back
                  </label>
                )}
                <TextButton
                  aria-label={`Remove value ${i + 1}`}
                  onClick={() => set({ pairs: pairs.toSpliced(i, 1) })}
                >
                  Remove
                </TextButton>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <p className="mt-1 flex items-baseline gap-4">
        <TextButton onClick={() => set({ pairs: [...pairs, { a: '', b: '' }] })}>Add a value</TextButton>
        <label className="flex items-baseline gap-2">
          others
          <InlineSelect
            label={`Other values of ${join.a}`}
            value={typeof others === 'string' ? others : 'become'}
            options={[
              { value: 'held', title: 'wait for a person' },
              { value: 'as they are', title: 'go as they are' },
              { value: 'become', title: 'become one value' },
            ]}
            onChange={({ target }) =>
              set({
                others:
                  target.value === 'become'
                    ? { a: fields.a.choices?.[0] ?? '', b: fields.b.choices?.[0] ?? '' }
                    : (target.value as 'held' | 'as they are'),
              })
            }
          />
        </label>
        {typeof others === 'object' &&
          (['a', 'b'] as const).map(side => (
            <InlineField
              key={side}
              label={`What others become in ${called[side]}`}
              className="w-32"
              list={`${listId}${side}`}
              value={others[side]}
              onChange={({ target }) => set({ others: { ...others, [side]: target.value } })}
            />
          ))}
      </p>
    </div>
  )
}
