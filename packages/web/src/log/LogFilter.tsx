import { datasetId, printName } from '@tide/core/records/dataset'
import type { PipelineStatus } from '@tide/core/api/pipelines'
import { useRef, useState } from 'react'
import { useLive } from '../api/live.ts'
import { Button } from '../parts/Button.tsx'
import { FindField, InlineField, InlineSelect } from '../parts/Field.tsx'
import { DetailsSwitch } from './DetailsSwitch.tsx'
import { logParams, type LogSearch } from './search.ts'

const LEVELS = [
  { value: 'detail', title: 'details and all else' },
  { value: 'info', title: 'notes and more' },
  { value: 'warning', title: 'warnings and stops' },
  { value: 'error', title: 'stops' },
]
/** Typing is looked for when it rests. */
const REST_MS = 300

/** What of the log is shown. `pipeline`: the one that it is of. */
export function LogFilter({ search, pipeline }: { search: LogSearch; pipeline: PipelineStatus | undefined }) {
  const pipelines = useLive(live => live.pipelines) ?? []
  const { query, set } = search
  const about = pipeline ?? pipelines.find(({ id }) => id === query.pipeline)
  const lanes = new Map((about?.lanes ?? []).map(({ source }) => [datasetId(source), printName(source)]))
  const all = (title: string) => ({ value: '', title })
  return (
    <section aria-label="What is shown" className="mb-3 space-y-2 text-[13px]">
      <div className="flex flex-wrap items-center gap-x-4 gap-y-2">
        <TextSearch text={query.text ?? ''} set={text => set('text', text)} />
        <InlineSelect
          label="Level"
          options={LEVELS}
          value={query.level}
          onChange={event => set('level', event.target.value)}
        />
        {!pipeline && (
          <InlineSelect
            label="Pipeline"
            options={[
              all('all pipelines'),
              ...pipelines.map(({ id, definition }) => ({ value: id, title: definition.name })),
            ]}
            value={query.pipeline ?? ''}
            onChange={event => set('pipeline', event.target.value)}
          />
        )}
        {about && (
          <InlineSelect
            label="Table"
            options={[
              all('all tables'),
              ...[...new Set(lanes.values())].sort().map(name => ({ value: name, title: name })),
            ]}
            value={query.lane ?? ''}
            onChange={event => set('lane', event.target.value)}
          />
        )}
      </div>
      <div className="flex flex-wrap items-center gap-x-3 gap-y-2">
        <Moment label="From" value={query.since ?? ''} set={value => set('since', value)} />
        <Moment label="Until" value={query.until ?? ''} set={value => set('until', value)} />
        {search.narrowed && (
          <Button look="text" onClick={search.clear}>
            Show all
          </Button>
        )}
        <span className="flex-1" />
        {about && <DetailsSwitch pipeline={about} />}
        <FileLink search={search} form="text" />
        <FileLink search={search} form="json" />
      </div>
    </section>
  )
}

function TextSearch({ text, set }: { text: string; set: (text: string) => void }) {
  const [typed, setTyped] = useState<string>()
  const rest = useRef<ReturnType<typeof setTimeout>>(undefined)
  const type = (value: string) => {
    setTyped(value)
    clearTimeout(rest.current)
    rest.current = setTimeout(() => {
      set(value)
      setTyped(undefined)
    }, REST_MS)
  }
  return (
    <span className="w-56">
      <FindField label="Find in the log" value={typed ?? text} onChange={event => type(event.target.value)} />
    </span>
  )
}

function Moment({ label, value, set }: { label: string; value: string; set: (value: string) => void }) {
  return (
    <span className="flex items-center gap-1.5 whitespace-nowrap text-ink-2">
      {label.toLowerCase()}
      <InlineField
        label={label}
        type="datetime-local"
        className="w-44"
        value={value}
        onChange={event => set(event.target.value)}
      />
    </span>
  )
}

function FileLink({ search, form }: { search: LogSearch; form: 'text' | 'json' }) {
  const params = logParams(search.query)
  params.set('form', form)
  return (
    <a
      href={`/api/log/file?${params}`}
      download
      title={
        form === 'text' ? 'What is shown, and all before it, as text' : 'The same, one JSON object a line'
      }
      className="font-semibold text-link underline-offset-2 hover:underline"
    >
      {form === 'text' ? 'Save as text' : 'JSON'}
    </a>
  )
}
