/** Every name of a definition's tables before and after its rules, and rules that make them fit. */
import type Router from '@koa/router'
import type { NameFilter, NamesAnswer, NamesProposal } from '@tide/core/api/names'
import { chooser } from '@tide/core/definition/choose'
import { asReplication, type ReplicateDefinition } from '@tide/core/definition/definition'
import { originsOf } from '@tide/core/definition/origins'
import { Failure } from '@tide/core/failure'
import { Namer } from '@tide/core/naming/namer'
import { namesOf, type ShownName } from '@tide/core/naming/names'
import { proposeRules, type NamingTarget } from '@tide/core/naming/propose'
import type { Dataset } from '@tide/core/records/dataset'
import { sourceTables } from '../source-tables.ts'
import type { Services } from '../services.ts'
import { validDefinition } from '../valid-definition.ts'
import { valid } from '../validate.ts'

/** As many as a person scrolls through; the rest is found by what it is called. */
const SHOWN = 1_000

const FILTERS = ['all', 'changed', 'refused', 'meeting'] as const satisfies NameFilter[]

const namesSchema = {
  type: 'object',
  additionalProperties: false,
  required: ['definition'],
  properties: {
    definition: { type: 'object' },
    show: { enum: FILTERS, default: 'all' },
    find: { type: 'string', maxLength: 300, default: '' },
  },
}

const proposalSchema = {
  type: 'object',
  additionalProperties: false,
  required: ['definition'],
  properties: { definition: { type: 'object' } },
}

export function nameRoutes(router: Router, services: Services): void {
  router.post('/names', async ctx => {
    const asked = valid<{ definition: object; show: NameFilter; find: string }>(
      namesSchema,
      ctx.request.body,
      'Names',
    )
    const definition = asReplication(validDefinition(asked.definition))
    const { datasets, target } = await named(services, definition)
    const names = shownNames(datasets, definition, target)
    const byRule = (definition.names ?? []).map(() => 0)
    for (const { by } of names) for (const rule of by) byRule[rule]!++
    const counts = { all: 0, changed: 0, refused: 0, meeting: 0 }
    for (const filter of FILTERS) counts[filter] = names.filter(TAKES[filter]).length
    const find = asked.find.toLowerCase()
    const found = names
      .filter(TAKES[asked.show])
      .filter(({ path, name }) => [...path, name].some(part => part.toLowerCase().includes(find)))
    ctx.body = {
      counts,
      byRule,
      found: found.length,
      names: found.slice(0, SHOWN).map(({ scope: _scope, key: _key, ...name }) => name),
    } satisfies NamesAnswer
  })

  router.post('/names/proposal', async ctx => {
    const asked = valid<{ definition: object }>(proposalSchema, ctx.request.body, 'Names')
    const definition = asReplication(validDefinition(asked.definition))
    const { datasets, target } = await named(services, definition)
    const names = proposeRules(datasets, definition.names ?? [], definition.targetSchema, target)
    const after = shownNames(datasets, { ...definition, names }, target)
    const left = after.filter(name => name.refused ?? name.meets).length
    ctx.body = { names, left } satisfies NamesProposal
  })
}

const TAKES: Record<NameFilter, (name: ShownName) => boolean> = {
  all: () => true,
  changed: ({ path, name }) => path.at(-1) !== name,
  refused: ({ refused }) => refused !== undefined,
  meeting: ({ meets }) => meets !== undefined,
}

function shownNames(
  datasets: readonly Dataset[],
  { names, targetSchema }: Pick<ReplicateDefinition, 'names' | 'targetSchema'>,
  target: NamingTarget,
): ShownName[] {
  return namesOf(datasets, new Namer(names ?? [], target.naming, targetSchema), target)
}

/** The chosen tables as the source has them, and what the target says of names. */
async function named(
  services: Services,
  definition: ReplicateDefinition,
): Promise<{ datasets: Dataset[]; target: NamingTarget }> {
  const { to } = definition
  if (originsOf(definition).every(({ connection }) => connection === '') || to === '') {
    throw new Failure(
      'refused',
      'Names are made for a target, of what a source has.',
      'Choose a source and a target first.',
    )
  }
  const datasets = await sourceTables(services, definition, false)
  const decide = chooser(definition)
  const profile = await services.sessions.use(to, async ({ target }) => target?.profile)
  if (!profile) throw new Failure('refused', 'This connection cannot be a target.', 'Choose another.')
  return { datasets: datasets.filter(dataset => decide(dataset).takesPart), target: profile }
}
