import type { SendDefinition } from '@tide/core/definition/send'
import { TextButton } from '../../parts/Button.tsx'
import { InlineSelect } from '../../parts/Field.tsx'
import { Section } from '../../pipelines/setup/Section.tsx'

interface MeetsProps {
  open: boolean
  turn: () => void
  definition: SendDefinition
  columns: readonly { name: string }[]
  object: { title: string; fields: { name: string }[]; can: { list: boolean } } | undefined
  proposed: SendDefinition['meets']
  change: (part: Partial<SendDefinition>) => void
}

/** How rows and records meet: by which column and field, in which order. */
export function MeetsSection({ definition, columns, object, proposed, change, ...turning }: MeetsProps) {
  const { meets, several = 'hold' } = definition
  const says =
    meets.length === 0
      ? object && !object.can.list
        ? 'by our own record of what was sent'
        : 'not said yet'
      : meets.map(({ column, field }) => `${column} = ${field}`).join(', else ')
  const put = (i: number, part: Partial<(typeof meets)[number]>) =>
    change({ meets: meets.with(i, { ...meets[i]!, ...part }) })
  const options = (names: readonly { name: string }[], value: string) => [
    ...(names.some(({ name }) => name === value) ? [] : [{ value, title: value || 'choose one' }]),
    ...names.map(({ name }) => ({ value: name, title: name })),
  ]
  return (
    <Section {...turning} name="meets" title="Match" says={says}>
      {object && !object.can.list && (
        <p className="text-ink-2">
          The app does not tell its {object.title}: what was sent is known by our own record, and nothing else
          is met.
        </p>
      )}
      {meets.map(({ column, field, alike }, i) => (
        <p key={i} className="flex items-baseline gap-2 border-b border-line py-1.5 text-[13px]">
          <span className="w-10 text-ink-2">{i === 0 ? 'by' : 'else by'}</span>
          <InlineSelect
            label={`Column of match key ${i + 1}`}
            value={column}
            options={options(columns, column)}
            onChange={({ target }) => put(i, { column: target.value })}
          />
          <span>is</span>
          <InlineSelect
            label={`Field of match key ${i + 1}`}
            value={field}
            options={options(object?.fields ?? [], field)}
            onChange={({ target }) => put(i, { field: target.value })}
          />
          <InlineSelect
            label={`How alike in match key ${i + 1}`}
            value={alike}
            options={['exactly', 'but for case and spaces'].map(value => ({ value, title: value }))}
            onChange={({ target }) => put(i, { alike: target.value as typeof alike })}
          />
          <TextButton
            className="ml-auto"
            aria-label={`Remove match key ${i + 1}`}
            onClick={() => change({ meets: meets.toSpliced(i, 1) })}
          >
            Remove
          </TextButton>
        </p>
      ))}
      {(!object || object.can.list) && (
        <p className="mt-2 flex items-baseline gap-4 text-[13px] text-ink-2">
          <TextButton
            onClick={() =>
              change({
                meets: [
                  ...meets,
                  (meets.length === 0 && proposed[0]) || {
                    column: '',
                    field: '',
                    alike: 'but for case and spaces',
                  },
                ],
              })
            }
          >
            {meets.length === 0 ? 'Add a match key' : 'Add another, for those that meet none'}
          </TextButton>
          {meets.length === 0 && proposed[0] && `${proposed[0].column} = ${proposed[0].field} is proposed.`}
        </p>
      )}
      {meets.length > 0 && (
        <label className="mt-2 flex items-baseline gap-2 text-[13px] text-ink-2">
          A row that meets several records
          <InlineSelect
            label="A row that meets several records"
            value={several}
            options={[
              { value: 'hold', title: 'is held back' },
              { value: 'first', title: 'goes to the first' },
            ]}
            onChange={({ target }) => change({ several: target.value === 'first' ? 'first' : undefined })}
          />
        </label>
      )}
    </Section>
  )
}
