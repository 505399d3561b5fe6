import type { NameFilter, NamesAnswer, NamesProposal } from '@tide/core/api/names'
import type { ReplicateDefinition } from '@tide/core/definition/definition'
import type { NamingRule } from '@tide/core/naming/rule'
import { keepPreviousData, useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { api } from '../../api/client.ts'
import { count, plural } from '../../format.ts'
import { TextButton } from '../../parts/Button.tsx'
import { ErrorNotice } from '../../parts/Notice.tsx'
import { NamesTable } from './NamesTable.tsx'
import { NamingRules } from './NamingRules.tsx'
import { Section, type Turning } from './Section.tsx'

interface NamesSectionProps extends Turning {
  definition: ReplicateDefinition
  change: (part: Partial<ReplicateDefinition>) => void
}

/** Naming rules, and every name before and after them. */
export function NamesSection({ definition, change, ...turning }: NamesSectionProps) {
  const rules = definition.names ?? []
  return (
    <Section
      {...turning}
      name="names"
      title="Names"
      says={rules.length === 0 ? 'as they are at the source' : plural(rules.length, 'naming rule')}
    >
      {definition.from === '' || definition.to === '' ? (
        <p className="text-ink-2">Choose a source and a target first.</p>
      ) : (
        <Names definition={definition} rules={rules} change={names => change({ names })} />
      )}
    </Section>
  )
}

interface NamesProps {
  definition: ReplicateDefinition
  rules: readonly NamingRule[]
  change: (rules: NamingRule[]) => void
}

function Names({ definition, rules, change }: NamesProps) {
  const [show, setShow] = useState<NameFilter>('all')
  const [find, setFind] = useState('')
  const [error, setError] = useState<unknown>()
  const [proposed, setProposed] = useState('')
  const answer = useQuery({
    queryKey: ['plan', 'names', definition, show, find],
    queryFn: ({ signal }) => api<NamesAnswer>('POST', '/names', { definition, show, find }, signal),
    placeholderData: keepPreviousData,
    gcTime: 10_000,
    staleTime: 0,
  })
  const propose = async () => {
    setError(undefined)
    try {
      const { names, left } = await api<NamesProposal>('POST', '/names/proposal', { definition })
      const more = names.length - rules.length
      setProposed(
        `${more === 0 ? 'No rule is missing' : `${plural(more, 'rule was', 'rules were')} missing`}; ${left === 0 ? 'every name fits' : `${plural(left, 'name does', 'names do')} not fit`}.`,
      )
      if (more > 0) change(names)
    } catch (failed) {
      setError(failed)
    }
  }
  const edit = (next: NamingRule[]) => {
    setProposed('')
    change(next)
  }
  const { data } = answer
  return (
    <>
      <NamingRules rules={rules} byRule={data?.byRule} change={edit} />
      <p className="mb-3 flex items-baseline gap-4 text-[13px]">
        <TextButton onClick={() => edit([...rules, { names: 'all', does: { make: 'lower case' } }])}>
          Add a rule
        </TextButton>
        <TextButton onClick={() => void propose()}>Propose what is missing</TextButton>
        <span role="status" className="text-ink-2">
          {proposed ||
            (data &&
              `${count(data.counts.changed)} of ${plural(data.counts.all, 'name')} ${data.counts.changed === 1 ? 'is' : 'are'} changed.`)}
        </span>
      </p>
      <ErrorNotice error={error ?? answer.error} />
      {data && <NamesTable answer={data} show={show} setShow={setShow} find={find} setFind={setFind} />}
      <p className="mt-2 text-[12px] text-ink-3">
        In patterns * stands for any letters, ? for one. What becomes of a name depends on that name and the
        rules alone, so tables that come later never rename others.
      </p>
    </>
  )
}
