import { withChosen } from '@tide/core/definition/choose'
import type { ReplicateDefinition } from '@tide/core/definition/definition'
import { originsOf } from '@tide/core/definition/origins'
import type { Dataset } from '@tide/core/records/dataset'
import { lookAgain, refreshCatalogues, useSourceTables } from '../../api/queries.ts'
import { bytes, plural } from '../../format.ts'
import { ErrorNotice } from '../../parts/Notice.tsx'
import { TableTree } from '../TableTree.tsx'
import { Bundles } from './Bundles.tsx'
import { Patterns } from './Patterns.tsx'
import { Section, type Turning } from './Section.tsx'

interface TablesSectionProps extends Turning {
  definition: ReplicateDefinition
  /** Those that take part. */
  chosen: readonly Dataset[]
  change: (part: Partial<ReplicateDefinition>) => void
}

export function TablesSection({ definition, chosen, change, ...turning }: TablesSectionProps) {
  const { datasets, error, isPending } = useSourceTables(definition)
  const sources = originsOf(definition).flatMap(({ connection }) => (connection === '' ? [] : [connection]))
  const patterns = definition.patterns?.length ?? 0
  const bundles = definition.bundles?.length ?? 0
  const says =
    chosen.length === 0
      ? 'none chosen yet'
      : `${plural(chosen.length, 'table')}, ${plural(
          chosen.reduce((sum, one) => sum + one.rows, 0),
          'row',
        )}, ${bytes(chosen.reduce((sum, one) => sum + one.bytes, 0))}${bundles > 0 ? `, in ${plural(bundles, 'bundle')}` : ''}${patterns > 0 ? `, by ${plural(patterns, 'pattern')}` : ''}`
  return (
    <Section {...turning} name="tables" title="Tables" says={says}>
      <ErrorNotice error={error} />
      {sources.length === 0 && <p className="text-ink-2">Choose a source first.</p>}
      {isPending && <p className="text-ink-2">Reading the catalogue …</p>}
      {datasets && (
        <>
          <Bundles definition={definition} datasets={datasets} change={change} />
          <Patterns definition={definition} datasets={datasets} change={change} />
          <TableTree
            datasets={datasets}
            definition={definition}
            tick={(touched, on) => change(withChosen(definition, touched, on))}
            lookAgain={() => void lookAgain(sources).catch(refreshCatalogues)}
          />
        </>
      )}
    </Section>
  )
}
