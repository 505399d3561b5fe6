import type { ReplicateDefinition } from '@tide/core/definition/definition'
import { COMPRESSED_BY, foldersOf, landedFiles, type LandedFiles } from '@tide/core/definition/files'
import { InlineField, InlineSelect } from '../../parts/Field.tsx'
import { COMPRESSIONS, FORMATS } from './filesSaid.ts'

type Files = NonNullable<ReplicateDefinition['files']>

const LANDS = [
  { value: 'changes', title: 'every change as a row of change files' },
  { value: 'merged', title: 'a merged table, as it is now' },
]

const EXAMPLE = '2026-03-09T17:00:00Z'

/** What the files of a folder or bucket are. */
export function FilesFields({
  files = {},
  table,
  change,
}: {
  files: Files | undefined
  /** One of those that take part, as an example. */
  table: string
  change: (files: Files) => void
}) {
  const landed = landedFiles(files)
  const set = (part: Files) => {
    const entries = Object.entries({ ...files, ...part }).filter(
      ([, value]) => value !== '' && value !== false,
    )
    change(Object.fromEntries(entries))
  }
  const within = foldersOf(landed.folders, EXAMPLE)
  const end = { 'json lines': 'jsonl', csv: 'csv', parquet: 'parquet' }[landed.format]
  const zipped = landed.compress === 'gzip' ? '.gz' : ''
  return (
    <div className="mt-3 text-[13px]">
      <p className="mb-1 font-semibold">Files</p>
      <p className="mb-1 flex items-baseline gap-2">
        <span className="w-24">Each table is</span>
        <InlineSelect
          label="What files hold"
          value={landed.as}
          options={LANDS}
          onChange={event => change(event.target.value === 'merged' ? { as: 'merged' } : {})}
        />
        <span className="text-ink-3">
          {landed.as === 'merged'
            ? 'an Iceberg table that others read as of any commit, and that changes are merged into'
            : 'whoever reads them merges them'}
        </span>
      </p>
      {landed.as === 'changes' && (
        <>
          <p className="mb-1 flex items-baseline gap-2">
            <span className="w-24">Written as</span>
            <InlineSelect
              label="Format of files"
              value={landed.format}
              options={Object.entries(FORMATS).map(([value, title]) => ({ value, title }))}
              onChange={event => {
                const format = event.target.value as LandedFiles['format']
                set({ format, compress: COMPRESSED_BY[format][0]! })
              }}
            />
            <InlineSelect
              label="How files are compressed"
              value={landed.compress}
              options={COMPRESSED_BY[landed.format].map(value => ({ value, title: COMPRESSIONS[value] }))}
              onChange={event => set({ compress: event.target.value as LandedFiles['compress'] })}
            />
          </p>
          <p className="mb-1 flex items-baseline gap-2">
            <span className="w-24">In folders</span>
            <InlineField
              label="Folders of files"
              className="w-64"
              placeholder="date={date}/hour={hour}"
              value={files.folders ?? ''}
              onChange={event => set({ folders: event.target.value })}
            />
            <span className="text-ink-3">by when a change was committed; empty: none</span>
          </p>
          <p
            className="mb-1 ml-26 font-mono text-[12px] break-all text-ink-2"
            aria-label="An example of a file"
          >
            {`${table}/data/${within === '' ? '' : `${within}/`}000000000042-….${end}${zipped}`}
          </p>
          <label className="flex items-baseline gap-2">
            <input
              type="checkbox"
              className="relative top-0.5"
              checked={files.before ?? false}
              onChange={event => set({ before: event.target.checked })}
            />
            <span>
              Also say what each row was before a change
              <span className="block text-[12px] text-ink-3">
                As far as the source tells it; the columns before_… stand beside the others.
              </span>
            </span>
          </label>
        </>
      )}
      <p className="mt-1 text-ink-3">
        {landed.as === 'merged' ? 'Changes are merged' : 'A file is published'} when 100,000 have come, or
        after a minute; Speed, under Start, says otherwise.
      </p>
    </div>
  )
}
