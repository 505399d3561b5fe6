import { chooser } from '@tide/core/definition/choose'
import type { ReplicateDefinition } from '@tide/core/definition/definition'
import type { Dataset } from '@tide/core/records/dataset'
import { useMemo } from 'react'
import { useSourceTables } from '../../api/queries.ts'

/** The tables that take part, as the source has them. */
export function useChosen(definition: ReplicateDefinition): Dataset[] {
  const { datasets } = useSourceTables(definition)
  return useMemo(() => {
    const decide = chooser(definition)
    return (datasets ?? []).filter(dataset => decide(dataset).takesPart)
  }, [datasets, definition])
}
