import type { HeldAnswer } from '@tide/core/api/held'
import { useState } from 'react'
import { moment } from '../format.ts'
import { Button } from '../parts/Button.tsx'
import { Copyable } from '../parts/Copyable.tsx'
import { LetBe } from './LetBe.tsx'

interface CorrectionProps {
  record: HeldAnswer
  busy: boolean
  retry: () => void
  correct: (values: Record<string, string | null>) => void
  letBe: (note: string) => Promise<unknown>
}

/** One held record, field by field: as it came, as it would stand at the target, and what it may be instead. */
export function Correction({ record, busy, retry, correct, letBe }: CorrectionProps) {
  const { source, shaped, told, fields, key, targetKey, op, position, committedAt } = record
  const [values, setValues] = useState<Record<string, string | null>>({})
  const set = (name: string, value: string | null) =>
    setValues(now => {
      const next = { ...now, [name]: value }
      if (value === (shaped?.[name] ?? null)) delete next[name]
      return next
    })
  const changed = Object.keys(values)
  // What the lane does not write by itself is at the source alone.
  const taken = new Set(fields.flatMap(({ from }) => from ?? []))
  const rows: { name: string; from: string | null }[] = [
    ...fields,
    ...Object.keys(source)
      .filter(name => !taken.has(name))
      .map(name => ({ name: '', from: name })),
  ]
  return (
    <section className="mt-4 border-t border-line-2 pt-3" aria-label="The held record">
      <div className="flex items-baseline gap-3">
        <h2 className="flex-1 text-[14px]">
          {key.map((name, i) => `${name} ${told[i]}`).join(', ')}
          <span className="ml-2 text-[13px] font-normal text-ink-2">
            {op === 'remove' ? 'its removal was refused' : 'as it came'}
            {committedAt && ` at ${moment(committedAt)}`}
            {position && (
              <>
                , <Copyable text={position} />
              </>
            )}
          </span>
        </h2>
        <LetBe what="this row" act={letBe} />
        <Button disabled={busy} onClick={retry}>
          Try it as it stands now
        </Button>
        <Button look="filled" disabled={busy || changed.length === 0} onClick={() => correct(values)}>
          Land it with these values
        </Button>
      </div>
      <table className="mt-2 w-full table-fixed border-collapse text-[13px]">
        <colgroup>
          <col className="w-44" />
          <col />
          <col />
          <col className="w-16" />
        </colgroup>
        <thead>
          <tr className="border-b border-line-2 text-left text-[12px] text-ink-2">
            {['Field', 'At the source', 'At the target', 'Null'].map(title => (
              <th key={title} scope="col" className="px-2 py-1.5 font-semibold first:px-0">
                {title}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {rows.map(({ name, from }) => {
            const blamed = name !== '' && name === record.column
            const there = shaped && name in shaped
            const value = name in values ? values[name]! : (shaped?.[name] ?? null)
            return (
              <tr
                key={`${name} ${from}`}
                className={`border-b border-line ${blamed ? 'bg-ochre-paper' : ''}`}
              >
                <th scope="row" className="py-1 text-left font-mono text-[12px] font-normal">
                  {name || from}
                  {blamed && <span className="sr-only"> does not fit</span>}
                </th>
                <td className="px-2 py-1 font-mono text-[12px] break-words">
                  {from !== null && from in source ? (
                    (source[from] ?? <i className="text-ink-3">null</i>)
                  ) : (
                    <span className="text-ink-3">–</span>
                  )}
                </td>
                <td className="px-2 py-1">
                  {there && !targetKey.includes(name) ? (
                    <input
                      aria-label={`${name} at the target`}
                      value={value ?? ''}
                      placeholder={value === null ? 'null' : ''}
                      onChange={({ target }) => set(name, target.value)}
                      className={`w-full rounded-sm border bg-paper-3 px-1.5 py-0.5 font-mono text-[12px] ${name in values ? 'border-water-4 font-semibold' : 'border-line-2'}`}
                    />
                  ) : (
                    <span className="font-mono text-[12px]">{there ? shaped[name] : ''}</span>
                  )}
                </td>
                <td className="px-2 py-1 text-center">
                  {there && !targetKey.includes(name) && (
                    <input
                      type="checkbox"
                      aria-label={`${name} is null`}
                      checked={value === null}
                      onChange={({ target }) => set(name, target.checked ? null : '')}
                    />
                  )}
                </td>
              </tr>
            )
          })}
        </tbody>
      </table>
      {!shaped && op === 'put' && (
        <p className="mt-2 text-[13px] text-ink-2">
          No row could be made of it: correct it at the source, or change how its columns are made.
        </p>
      )}
    </section>
  )
}
