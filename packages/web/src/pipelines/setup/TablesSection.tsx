import type { Definition } from '@tide/core/definition/definition'
import { datasetId } from '@tide/core/records/dataset'
import { lookAgain, useCatalogue } from '../../api/queries.ts'
import { bytes, plural } from '../../format.ts'
import { ErrorNotice } from '../../parts/Notice.tsx'
import { TableTree } from '../TableTree.tsx'
import { Section, type Turning } from './Section.tsx'

interface TablesSectionProps extends Turning {
  definition: Definition
  /** Tables that cannot be taken out. */
  fixed: Definition['tables']
  change: (part: Partial<Definition>) => void
}

export function TablesSection({ definition, fixed, change, ...turning }: TablesSectionProps) {
  const catalogue = useCatalogue(definition.from)
  const chosen = definition.tables.length
  const ids = new Set(definition.tables.map(datasetId))
  const size = (catalogue.data?.datasets ?? []).filter(dataset => ids.has(datasetId(dataset)))
  return (
    <Section
      {...turning}
      name="tables"
      title="Tables"
      says={
        chosen === 0
          ? 'none ticked yet'
          : `${plural(chosen, 'table')}, ${plural(
              size.reduce((sum, one) => sum + one.rows, 0),
              'row',
            )}, ${bytes(size.reduce((sum, one) => sum + one.bytes, 0))}`
      }
    >
      <ErrorNotice error={catalogue.error} />
      {definition.from === '' && <p className="text-ink-2">Choose a source first.</p>}
      {definition.from !== '' && catalogue.isPending && <p className="text-ink-2">Reading the catalogue …</p>}
      {catalogue.data && (
        <TableTree
          datasets={catalogue.data.datasets}
          chosen={definition.tables}
          fixed={fixed}
          change={tables => change({ tables })}
          lookAgain={() => void lookAgain(definition.from).catch(() => catalogue.refetch())}
        />
      )}
    </Section>
  )
}
