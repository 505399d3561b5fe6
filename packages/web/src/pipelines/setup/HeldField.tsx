import type { Definition } from '@tide/core/definition/definition'
import { HELD_AT_MOST } from '@tide/core/definition/held'
import { count } from '../../format.ts'
import { InlineField } from '../../parts/Field.tsx'

const MOST = 100_000

interface HeldFieldProps {
  held: Definition['held']
  change: (held: Definition['held']) => void
}

/** How many rows that do not fit are held back before the pipeline stops. */
export function HeldField({ held, change }: HeldFieldProps) {
  const set = (text: string) => {
    const digits = text.replace(/\D/g, '')
    change(digits === '' ? undefined : { most: Math.min(MOST, Number(digits)) })
  }
  return (
    <div className="mt-3 text-[13px]">
      <p className="mb-1 font-semibold">What does not fit</p>
      <label className="flex items-baseline gap-2">
        <span className="w-44 shrink-0">Rows held back, at most</span>
        <InlineField
          label="Rows held back, at most"
          className="w-16"
          inputMode="numeric"
          value={held === undefined ? '' : String(held.most)}
          onChange={event => set(event.target.value)}
        />
        <span className="text-ink-3">
          of each table, while all others land; beyond that the pipeline stops. 0: it stops at the first;
          empty: {count(HELD_AT_MOST)}
        </span>
      </label>
    </div>
  )
}
