import type { ReplicateDefinition } from '@tide/core/definition/definition'
import { InlineSelect, TextField } from '../../parts/Field.tsx'
import { FullRehearsal } from './FullRehearsal.tsx'
import { Section, type Turning } from './Section.tsx'
import { SafetyFields } from './SafetyFields.tsx'
import { StatusFields } from './StatusFields.tsx'
import { SpeedFields } from './SpeedFields.tsx'

type Does = NonNullable<ReplicateDefinition['does']> | 'both'

const WAYS: { does: Does; title: string; says: string }[] = [
  {
    does: 'both',
    title: 'Copy, then follow',
    says: 'What is there is copied, then every change follows until it is paused or stopped.',
  },
  {
    does: 'copy',
    title: 'Copy once',
    says: 'What is there is copied, as of one moment; then it is finished and its capture is taken off.',
  },
  {
    does: 'follow',
    title: 'Follow only',
    says: 'What is there is not copied; rows come as they change.',
  },
  { does: 'structure', title: 'Make the tables', says: 'No row is copied, and nothing is followed.' },
  {
    does: 'archive',
    title: 'Archive',
    says: 'Rows in scope go to a merged table in a lake, are verified there, and are then deleted at the source.',
  },
]

/** What a start does, in a few words. */
export function doesSaid(does: ReplicateDefinition['does']): string {
  return WAYS.find(way => way.does === (does ?? 'both'))!.says
}

interface StartSectionProps extends Turning {
  definition: ReplicateDefinition
  /** The pipeline runs: what it does stays. */
  runs: boolean
  change: (part: Partial<ReplicateDefinition>) => void
}

/** What to do: copy, follow, both, or only make the tables. */
export function StartSection({ definition, runs, change, ...turning }: StartSectionProps) {
  const does = definition.does ?? 'both'
  const says = runs
    ? 'what is changed at once; what is copied is copied beside the others'
    : WAYS.find(way => way.does === does)!.title.toLowerCase()
  return (
    <Section {...turning} name="start" title="Start" says={says}>
      <div role="radiogroup" aria-label="What to do" hidden={runs}>
        {WAYS.map(way => (
          <label key={way.does} className="flex items-baseline gap-2.5 border-b border-line py-1.5">
            <input
              type="radio"
              name="does"
              checked={way.does === does}
              onChange={() =>
                change({
                  does: way.does === 'both' ? undefined : way.does,
                  followFrom: undefined,
                  elsewhere: undefined,
                  ...(way.does === 'archive' && definition.files ? { files: { as: 'merged' } } : {}),
                })
              }
            />
            <span className="w-40 shrink-0 font-semibold">{way.title}</span>
            <span className="text-[13px] text-ink-2">{way.says}</span>
          </label>
        ))}
      </div>
      {does === 'follow' && !runs && (
        <div className="mt-2">
          <TextField
            mono
            label="Follow from"
            placeholder="the start on"
            hint="A time such as 2026-03-01T12:00:00Z, or a position as the source prints it, where another pipeline’s journal has what follows it."
            value={definition.followFrom ?? ''}
            onChange={({ target }) =>
              change({ followFrom: target.value.trim() === '' ? undefined : target.value.trim() })
            }
          />
        </div>
      )}
      {does === 'archive' && !runs && (
        <label className="mt-2 flex items-baseline gap-2 text-[13px]">
          <span>Archived rows at other targets of this source</span>
          <InlineSelect
            label="Archived rows at other targets"
            value={definition.elsewhere ?? 'stay'}
            options={[
              { value: 'stay', title: 'stay there' },
              { value: 'go', title: 'are deleted, too' },
            ]}
            onChange={({ target }) => change({ elsewhere: target.value === 'go' ? 'go' : undefined })}
          />
        </label>
      )}
      <FullRehearsal definition={definition} />
      {/* An archive goes slice by slice, and holds nothing back. */}
      {does !== 'archive' && (
        <>
          <SpeedFields speed={definition.speed ?? {}} change={speed => change({ speed })} />
          <SafetyFields definition={definition} change={change} />
          <StatusFields status={definition.status} change={status => change({ status })} />
        </>
      )}
    </Section>
  )
}
