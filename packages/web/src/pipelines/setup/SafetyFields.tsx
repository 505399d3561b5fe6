import { GUARDED_PERCENT } from '@tide/core/apply/deletion-guard'
import type { ReplicateDefinition } from '@tide/core/definition/definition'
import { HELD_AT_MOST, type HeldBounds } from '@tide/core/definition/held-bounds'
import { count } from '../../format.ts'
import { InlineField } from '../../parts/Field.tsx'

interface SafetyFieldsProps {
  definition: Pick<ReplicateDefinition, 'held' | 'guard'>
  change: (part: Partial<ReplicateDefinition>) => void
}

/** When the pipeline stops and asks, rather than going on. */
export function SafetyFields({ definition: { held, guard }, change }: SafetyFieldsProps) {
  const bound = (part: HeldBounds) => {
    const bounds = { ...held, ...part }
    const isAny = Object.values(bounds).some(value => value !== undefined)
    change({ held: isAny ? bounds : undefined })
  }
  return (
    <div className="mt-3 text-[13px]">
      <p className="mb-1 font-semibold">When to stop and ask</p>
      <Field
        title="Rows held back, at most"
        value={held?.most}
        least={0}
        most={100_000}
        set={most => bound({ most })}
        says={`of each table, while all others land; beyond that it stands still; 0: with the first; empty: ${count(HELD_AT_MOST)}`}
      />
      <Field
        title="Percent of rows held back"
        value={held?.percent}
        most={100}
        set={percent => bound({ percent })}
        says="of a table’s rows at the target, where there are 100 or more; empty: only their number counts"
      />
      <Field
        title="Hours held back, at most"
        value={held?.hours}
        most={8760}
        set={hours => bound({ hours })}
        says="when a row has waited for somebody longer than that, its table stands still; empty: it may wait"
      />
      <Field
        title="Percent of rows deleted"
        value={guard?.percent}
        most={100}
        set={percent => change({ guard: percent === undefined ? undefined : { percent } })}
        says={`of a table within ten minutes: before more go, it is asked; 100: never; empty: ${GUARDED_PERCENT}`}
      />
    </div>
  )
}

interface FieldProps {
  title: string
  value: number | undefined
  least?: number
  most: number
  set: (value: number | undefined) => void
  says: string
}

function Field({ title, value, least = 1, most, set, says }: FieldProps) {
  const typed = (text: string) => {
    const digits = text.replace(/\D/g, '')
    set(digits === '' ? undefined : Math.min(most, Math.max(least, Number(digits))))
  }
  return (
    <label className="mb-1 flex items-baseline gap-2">
      <span className="w-44 shrink-0">{title}</span>
      <InlineField
        label={title}
        className="w-16"
        inputMode="numeric"
        value={value === undefined ? '' : String(value)}
        onChange={event => typed(event.target.value)}
      />
      <span className="text-ink-3">{says}</span>
    </label>
  )
}
