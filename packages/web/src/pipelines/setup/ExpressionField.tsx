import { compileExpression, isFault } from '@tide/core/expression/compile'
import { FUNCTIONS } from '@tide/core/expression/functions'
import type { Dataset } from '@tide/core/records/dataset'
import { printType } from '@tide/core/records/types'
import { useId, useRef, useState } from 'react'
import { InlineField } from '../../parts/Field.tsx'

/** Parts of the language itself, which are called like functions. */
const SPECIAL = [
  { name: 'coalesce', example: 'coalesce(note, "none")', says: 'the first that is not null' },
  { name: 'has', example: 'has(note)', says: 'whether it is not null' },
  { name: 'orNull', example: 'orNull(a + b)', says: 'null where something in it is' },
  { name: 'hash', example: 'hash(mail)', says: 'a keyed hash, as in masks' },
]

const META = ['operation', 'committedAt', 'landedAt', 'position', 'origin', 'table']

interface ExpressionFieldProps {
  label: string
  value: string
  /** Whose columns it is about; undefined: there is none yet. */
  table: Dataset | undefined
  change: (value: string) => void
}

/** An expression with completion, what is wrong with it where it is wrong, and what it gives. */
export default function ExpressionField({ label, value, table, change }: ExpressionFieldProps) {
  const listId = useId()
  const input = useRef<HTMLInputElement>(null)
  const [cursor, setCursor] = useState<number>()
  const [active, setActive] = useState(0)
  const word = cursor === undefined ? '' : (/[A-Za-z_][\w.]*$/.exec(value.slice(0, cursor))?.[0] ?? '')
  const offers = word === '' ? [] : offersFor(word, table)
  const open = offers.length > 0 && !(offers.length === 1 && offers[0]!.insert === word)
  const accept = (insert: string) => {
    const start = cursor! - word.length
    change(value.slice(0, start) + insert + value.slice(cursor))
    setCursor(undefined)
    // The field has the new text after the next paint.
    requestAnimationFrame(() => {
      input.current?.focus()
      input.current?.setSelectionRange(start + insert.length, start + insert.length)
    })
  }
  return (
    <div className="relative mt-1 pl-6">
      <InlineField
        label={label}
        ref={input}
        role="combobox"
        aria-expanded={open}
        aria-controls={listId}
        aria-activedescendant={open ? `${listId}-${active}` : undefined}
        aria-autocomplete="list"
        className="w-full"
        value={value}
        onChange={event => {
          change(event.target.value)
          setCursor(event.target.selectionStart ?? undefined)
          setActive(0)
        }}
        onBlur={() => setCursor(undefined)}
        onKeyDown={event => {
          if (!open) return
          const step = { ArrowDown: 1, ArrowUp: -1 }[event.key]
          if (step) setActive((active + step + offers.length) % offers.length)
          else if (event.key === 'Enter' || event.key === 'Tab') accept(offers[active]!.insert)
          else if (event.key === 'Escape') setCursor(undefined)
          else return
          event.preventDefault()
        }}
      />
      {open && (
        <ul
          id={listId}
          role="listbox"
          aria-label="Completions"
          className="absolute z-30 max-h-52 w-[min(100%,32rem)] overflow-auto border border-line-2 bg-paper-3 text-[12px]"
        >
          {offers.map(({ insert, says }, i) => (
            <li
              key={insert}
              id={`${listId}-${i}`}
              role="option"
              aria-selected={i === active}
              className={`flex gap-3 px-2 py-0.5 ${i === active ? 'bg-paper-2' : ''}`}
              onMouseDown={event => {
                event.preventDefault()
                accept(insert)
              }}
            >
              <code className="font-mono">{insert}</code>
              <span className="ml-auto overflow-hidden text-ellipsis whitespace-nowrap text-ink-2">
                {says}
              </span>
            </li>
          ))}
        </ul>
      )}
      <Outcome value={value} table={table} />
    </div>
  )
}

function Outcome({ value, table }: Pick<ExpressionFieldProps, 'value' | 'table'>) {
  if (!table) return <p className="text-[12px] text-ink-2">No chosen table is like that.</p>
  const fields = table.fields.filter(({ notCaptured }) => !notCaptured)
  const compiled = compileExpression(value, fields, text => text)
  if (!isFault(compiled)) {
    return (
      <p className="text-[12px] text-ink-2">
        gives a {printType(compiled.type)}
        {compiled.nullable && ', or null'}
      </p>
    )
  }
  const { message, remedy, from, to } = compiled
  return (
    <p className="text-[12px]" role="status">
      <span className="font-semibold text-buoy">
        {to > from && to - from < value.length && (
          <code className="mr-1 font-mono">{value.slice(from, Math.min(to, from + 30))}:</code>
        )}
        {message}
      </span>{' '}
      <span className="text-ink-2">{remedy}</span>
    </p>
  )
}

interface Offer {
  insert: string
  says: string
}

function offersFor(word: string, table: Dataset | undefined): Offer[] {
  const columns = (table?.fields ?? []).map(({ name, nativeType, nullable }): Offer => {
    const insert = /^[A-Za-z_]\w*$/.test(name) ? name : `row[${JSON.stringify(name)}]`
    return { insert, says: `${nativeType}${nullable ? ', may be null' : ''}` }
  })
  const calls = [
    ...SPECIAL,
    ...FUNCTIONS.map(({ name, says, example: [example] }) => ({ name, says, example })),
  ].map(({ name, says, example }): Offer => ({ insert: `${name}(`, says: `${says}: ${example}` }))
  const meta = META.map((name): Offer => ({ insert: `meta.${name}`, says: 'of the change itself' }))
  const found = word.toLowerCase()
  return [...columns, ...calls, ...meta].filter(({ insert }) =>
    insert
      .replace(/^row\["/, '')
      .toLowerCase()
      .startsWith(found),
  )
}
