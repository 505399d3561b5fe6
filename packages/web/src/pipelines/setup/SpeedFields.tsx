import type { ReplicateDefinition } from '@tide/core/definition/definition'
import { InlineField } from '../../parts/Field.tsx'

type Speed = NonNullable<ReplicateDefinition['speed']>

const FIELDS: { name: keyof Speed; title: string; most: number; cost: string }[] = [
  {
    name: 'readers',
    title: 'Parts copied at once',
    most: 64,
    cost: 'fewer spare the source while it is copied; empty: as many as it has room for',
  },
  {
    name: 'waits',
    title: 'Seconds a change may wait',
    most: 3600,
    cost: 'larger landings cost the target less, and rows come later; empty: none waits',
  },
  {
    name: 'changes',
    title: 'Changes that land at once',
    most: 1_000_000,
    cost: 'so many do not wait for more; empty: as many as one landing takes',
  },
]

/** How fast, each with what it costs whom; empty fields are left to the systems. */
export function SpeedFields({ speed, change }: { speed: Speed; change: (speed: Speed | undefined) => void }) {
  const set = (name: keyof Speed, text: string, most: number) => {
    const rest = { ...speed }
    delete rest[name]
    const digits = text.replace(/\D/g, '')
    const next = digits === '' ? rest : { ...rest, [name]: Math.min(most, Number(digits)) }
    change(Object.keys(next).length > 0 ? next : undefined)
  }
  return (
    <div className="mt-3 text-[13px]">
      <p className="mb-1 font-semibold">Speed</p>
      {FIELDS.map(({ name, title, most, cost }) => (
        <label key={name} className="mb-1 flex items-baseline gap-2">
          <span className="w-44 shrink-0">{title}</span>
          <InlineField
            label={title}
            className="w-16"
            inputMode="numeric"
            value={speed[name] === undefined ? '' : String(speed[name])}
            onChange={event => set(name, event.target.value, most)}
          />
          <span className="text-ink-3">{cost}</span>
        </label>
      ))}
    </div>
  )
}
