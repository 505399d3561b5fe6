import { withChosen } from '@tide/core/definition/choose'
import type { Definition } from '@tide/core/definition/definition'
import type { Dataset, DatasetName } from '@tide/core/records/dataset'
import { lookAgain, useCatalogue } from '../../api/queries.ts'
import { bytes, plural } from '../../format.ts'
import { ErrorNotice } from '../../parts/Notice.tsx'
import { TableTree } from '../TableTree.tsx'
import { Patterns } from './Patterns.tsx'
import { Section, type Turning } from './Section.tsx'

interface TablesSectionProps extends Turning {
  definition: Definition
  /** Tables of the running pipeline that others are added to; they cannot be taken out, nor the patterns changed. */
  fixed: readonly DatasetName[] | undefined
  /** Those that take part. */
  chosen: readonly Dataset[]
  change: (part: Partial<Definition>) => void
}

export function TablesSection({ definition, fixed, chosen, change, ...turning }: TablesSectionProps) {
  const catalogue = useCatalogue(definition.from)
  const { datasets } = catalogue.data ?? {}
  const patterns = definition.patterns?.length ?? 0
  const says =
    chosen.length === 0
      ? 'none chosen yet'
      : `${plural(chosen.length, 'table')}, ${plural(
          chosen.reduce((sum, one) => sum + one.rows, 0),
          'row',
        )}, ${bytes(chosen.reduce((sum, one) => sum + one.bytes, 0))}${patterns > 0 ? `, by ${plural(patterns, 'pattern')}` : ''}`
  return (
    <Section {...turning} name="tables" title="Tables" says={says}>
      <ErrorNotice error={catalogue.error} />
      {definition.from === '' && <p className="text-ink-2">Choose a source first.</p>}
      {definition.from !== '' && catalogue.isPending && <p className="text-ink-2">Reading the catalogue …</p>}
      {datasets && (
        <>
          {!fixed && <Patterns definition={definition} datasets={datasets} change={change} />}
          <TableTree
            datasets={datasets}
            definition={definition}
            fixed={fixed ?? []}
            tick={(touched, on) => change(withChosen(definition, touched, on))}
            lookAgain={() => void lookAgain(definition.from).catch(() => catalogue.refetch())}
          />
        </>
      )}
    </Section>
  )
}
