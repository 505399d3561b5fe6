import type { ConnectionInfo } from '@tide/core/api/connections'
import type { ReplicateDefinition } from '@tide/core/definition/definition'
import { fromOf, originsOf, tagFor, type Origin } from '@tide/core/definition/origins'
import { DEFAULT_ORIGIN_COLUMN } from '@tide/core/plan/origins'
import { TextButton } from '../../parts/Button.tsx'
import { InlineField, InlineSelect } from '../../parts/Field.tsx'
import { Pick } from './Pick.tsx'
import { Section, type Turning } from './Section.tsx'

interface FromSectionProps extends Turning {
  definition: ReplicateDefinition
  connections: ConnectionInfo[]
  /** Origins that the pipeline runs with, and keeps. */
  kept: readonly Origin[]
  change: (part: Partial<ReplicateDefinition>) => void
  /** A source was chosen, and there is no more to say here. */
  done: () => void
}

/** Where the records come from: one source, or several of one shape. */
export function FromSection({ definition, connections, kept, change, done, ...turning }: FromSectionProps) {
  const origins = originsOf(definition)
  const nameOf = (id: string) => connections.find(connection => connection.id === id)?.name
  const [only] = origins
  const chosen = connections.find(({ id }) => id === only!.connection)
  const says =
    origins.length > 1
      ? `${origins.length} origins: ${origins.map(({ tag }) => tag).join(', ')}`
      : chosen
        ? `${chosen.name}, ${chosen.address}`
        : 'not chosen yet'
  const set = (next: readonly Origin[]) => change({ from: fromOf(next) })
  const add = () => {
    const named = origins.map(({ connection, tag }, place) => ({
      connection,
      tag: tag || tagFor(nameOf(connection) ?? '', origins.slice(0, place)),
    }))
    const other = connections.find(({ id }) => !origins.some(({ connection }) => connection === id))
    set([...named, { connection: other?.id ?? '', tag: tagFor(other?.name ?? '', named) }])
  }
  return (
    <Section {...turning} name="from" title="From" says={says}>
      {origins.length === 1 ? (
        <Pick
          label="Source"
          connections={connections}
          chosen={only!.connection}
          choose={id => {
            change({ from: id, ...(id === only!.connection ? {} : { tables: [], without: [] }) })
            done()
          }}
        />
      ) : (
        <Origins
          origins={origins}
          connections={connections}
          set={set}
          definition={definition}
          kept={kept}
          change={change}
        />
      )}
      {(origins.length > 1 || chosen) && connections.length > 1 && (
        <p className="mt-2 flex items-baseline gap-3 text-[13px] text-ink-2">
          <TextButton onClick={add}>Add an origin</TextButton>
          {origins.length === 1 && 'Several sources with the same tables can go into one set of tables.'}
        </p>
      )}
    </Section>
  )
}

interface OriginsProps {
  origins: readonly Origin[]
  connections: ConnectionInfo[]
  set: (origins: readonly Origin[]) => void
  definition: ReplicateDefinition
  kept: readonly Origin[]
  change: (part: Partial<ReplicateDefinition>) => void
}

function Origins({ origins, connections, set, definition, kept, change }: OriginsProps) {
  const put = (place: number, origin: Origin) => set(origins.map((one, i) => (i === place ? origin : one)))
  return (
    <>
      <table className="w-full">
        <thead>
          <tr className="border-b border-line-2 text-left text-[13px] text-ink-2">
            <th className="py-1 font-normal">Origin</th>
            <th className="font-normal">Tag in its rows</th>
            <th>
              <span className="sr-only">Remove</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {origins.map(({ connection, tag }, place) => (
            // Places are what they are told apart by: while one is typed, two may be the same.
            <tr key={place} className="border-b border-line">
              <td className="py-1.5 pr-3">
                <InlineSelect
                  label={`Source of origin ${place + 1}`}
                  className="w-full"
                  disabled={place < kept.length}
                  value={connection}
                  options={[
                    ...(connection === '' ? [{ value: '', title: 'choose one' }] : []),
                    ...connections.map(({ id, name }) => ({ value: id, title: name })),
                  ]}
                  onChange={event => put(place, { connection: event.target.value, tag })}
                />
              </td>
              <td className="pr-3">
                <InlineField
                  label={`Tag of origin ${place + 1}`}
                  className="w-full"
                  readOnly={place < kept.length}
                  value={tag}
                  onChange={event => put(place, { connection, tag: event.target.value })}
                />
              </td>
              <td className="text-right">
                {place >= kept.length && (
                  <TextButton
                    aria-label={`Remove origin ${place + 1}`}
                    onClick={() => set(origins.filter((_, i) => i !== place))}
                  >
                    Remove
                  </TextButton>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <label className="mt-3 block text-[13px] text-ink-2">
        Each row says where it is from in the column{' '}
        <InlineField
          label="Origin column"
          className="w-40"
          readOnly={kept.length > 0}
          placeholder={DEFAULT_ORIGIN_COLUMN}
          value={definition.originColumn ?? ''}
          onChange={event => change({ originColumn: event.target.value || undefined })}
        />
        , which is part of every key: rows with equal keys stay apart.
      </label>
    </>
  )
}
