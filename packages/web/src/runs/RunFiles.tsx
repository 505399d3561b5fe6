import { runsParams, type RunsAsked } from './useRuns.ts'

const FORMS = [
  { form: 'csv', title: 'CSV' },
  { form: 'parquet', title: 'Parquet' },
]

/** The same runs as files, a line for each table of each run. */
export function RunFiles({ asked }: { asked: RunsAsked }) {
  return (
    <span className="flex gap-3 text-[13px]">
      <span className="text-ink-2">Save as</span>
      {FORMS.map(({ form, title }) => (
        <a
          key={form}
          href={`/api/runs/file?${runsParams(asked)}&form=${form}`}
          download
          className="font-semibold text-link underline-offset-2 hover:underline"
        >
          {title}
        </a>
      ))}
    </span>
  )
}
