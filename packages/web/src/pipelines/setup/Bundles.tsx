import { mainsOf, relatedTo, type Bundle } from '@tide/core/definition/bundle'
import type { ReplicateDefinition } from '@tide/core/definition/definition'
import { datasetId, printName, type Dataset } from '@tide/core/records/dataset'
import { useMemo } from 'react'
import { TextButton } from '../../parts/Button.tsx'
import { InlineField, InlineSelect } from '../../parts/Field.tsx'
import { Name } from '../../parts/Name.tsx'

interface BundlesProps {
  definition: ReplicateDefinition
  datasets: readonly Dataset[]
  change: (part: Partial<ReplicateDefinition>) => void
}

/** Tables that make one business object together, by the foreign keys between them. */
export function Bundles({ definition, datasets, change }: BundlesProps) {
  const bundles = definition.bundles ?? []
  const mains = useMemo(() => mainsOf(datasets), [datasets])
  if (mains.length === 0 && bundles.length === 0) return null
  const set = (next: Bundle[]) => change({ bundles: next.length > 0 ? next : undefined })
  const add = (id: string) => {
    const main = mains.find(one => datasetId(one) === id)
    if (main) set([...bundles, begun(main, datasets)])
  }
  return (
    <div className="mb-2 text-[13px]" role="group" aria-label="Bundles">
      {bundles.map((bundle, i) => (
        <OneBundle
          key={i}
          number={i + 1}
          bundle={bundle}
          datasets={datasets}
          set={one => set(bundles.with(i, one))}
          remove={() => set(bundles.toSpliced(i, 1))}
        />
      ))}
      <label className="flex items-baseline gap-2 text-ink-2">
        Add a bundle of
        <InlineSelect
          label="Add a bundle of"
          value=""
          options={[
            { value: '', title: 'a table with what belongs to it' },
            ...mains.map(main => ({ value: datasetId(main), title: printName(main) })),
          ]}
          onChange={({ target }) => add(target.value)}
        />
      </label>
    </div>
  )
}

/** What refers to the main table is part of it until somebody says otherwise. */
function begun(main: Dataset, datasets: readonly Dataset[]): Bundle {
  const parts = relatedTo(main, datasets).filter(({ isPart }) => isPart)
  const { namespace, name } = main
  const [first] = parts
  return {
    name: first ? `${name} with ${first.table.name}${parts.length > 1 ? ' and more' : ''}` : name,
    main: { namespace, name },
    with: parts.map(({ table, on }) => ({ table, on })),
  }
}

interface OneBundleProps {
  number: number
  bundle: Bundle
  datasets: readonly Dataset[]
  set: (bundle: Bundle) => void
  remove: () => void
}

function OneBundle({ number, bundle, datasets, set, remove }: OneBundleProps) {
  const main = datasets.find(one => datasetId(one) === datasetId(bundle.main))
  const proposed = main ? relatedTo(main, datasets) : []
  const known = new Set(proposed.map(({ table }) => datasetId(table)))
  const others = bundle.with.filter(({ table }) => !known.has(datasetId(table)))
  const taken = new Set(bundle.with.map(({ table }) => datasetId(table)))
  return (
    <div className="border-b border-line py-1.5">
      <p className="flex items-baseline gap-2">
        <b className="w-4">{number}</b>
        <InlineField
          label={`Name of bundle ${number}`}
          className="w-72"
          value={bundle.name}
          onChange={({ target }) => set({ ...bundle, name: target.value })}
        />
        <span className="text-ink-2">of</span>
        <Name>{printName(bundle.main)}</Name>
        <TextButton className="ml-auto" onClick={remove} aria-label={`Remove bundle ${number}`}>
          Remove
        </TextButton>
      </p>
      <ul className="mt-0.5 ml-6">
        {[...proposed, ...others.map(one => ({ ...one, isPart: false }))].map(({ table, on, isPart }) => (
          <li key={datasetId(table)}>
            <label className="flex items-baseline gap-2">
              <input
                type="checkbox"
                className="relative top-0.5"
                checked={taken.has(datasetId(table))}
                onChange={({ target }) =>
                  set({
                    ...bundle,
                    with: target.checked
                      ? [...bundle.with, { table, on }]
                      : bundle.with.filter(one => datasetId(one.table) !== datasetId(table)),
                  })
                }
              />
              <Name>{printName(table)}</Name>
              <span className="text-ink-2">
                {isPart ? 'its parts' : 'refers to it'}, by{' '}
                <span className="font-mono text-[12px]">
                  {on.map(([own, other]) => (own === other ? own : `${own} = ${other}`)).join(', ')}
                </span>
              </span>
            </label>
          </li>
        ))}
      </ul>
    </div>
  )
}
