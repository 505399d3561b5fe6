import type { SendDefinition } from '@tide/core/definition/send'
import { InlineField } from '../../parts/Field.tsx'

/** How much a run may do without being asked. */
export function Guard({
  definition,
  change,
}: {
  definition: SendDefinition
  change: (part: Partial<SendDefinition>) => void
}) {
  const guard = definition.guard ?? { percent: 30, records: 100 }
  const set = (part: Partial<typeof guard>) => change({ guard: { ...guard, ...part } })
  const number = (text: string, most: number) => Math.max(0, Math.min(most, Math.trunc(Number(text) || 0)))
  return (
    <p className="mt-3 text-[13px] text-ink-2">
      A later run asks before it creates, changes or removes more than{' '}
      <InlineField
        label="Share in percent"
        className="w-14"
        type="number"
        value={guard.percent}
        onChange={({ target }) => set({ percent: Math.max(1, number(target.value, 100)) })}
      />{' '}
      % of the records, and more than{' '}
      <InlineField
        label="Number of records"
        className="w-20"
        type="number"
        value={guard.records}
        onChange={({ target }) => set({ records: number(target.value, 100_000_000) })}
      />
      ; also where that is three times what is usual.
    </p>
  )
}
