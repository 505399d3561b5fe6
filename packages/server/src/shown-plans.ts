/** Plans that people have been shown, so that a start can be held against what they saw. */
import type { ReplicateDefinition } from '@tide/core/definition/definition'
import { Failure } from '@tide/core/failure'
import { outlineOf, planDifference, type PlanOutline } from '@tide/core/plan/difference'
import type { Plan } from '@tide/core/plan/plan'
import { createHash } from 'node:crypto'
import { canonicalJson } from '@tide/core/definition/canonical-json'

/** As many as are being looked at; of one that was shown longer ago it is still known whether it is the same. */
const KEPT = 64
/** Differences that are told; a changed schema has many. */
const TOLD = 5

export class ShownPlans {
  private readonly outlines = new Map<string, PlanOutline>()

  /** Remembers the plan; returns the name under which a start can ask for just this one. */
  show(definition: ReplicateDefinition, plan: Plan): string {
    const outline = outlineOf(plan)
    const digest = digestOf(definition, outline)
    this.outlines.delete(digest)
    this.outlines.set(digest, outline)
    const [oldest] = this.outlines.keys()
    if (this.outlines.size > KEPT) this.outlines.delete(oldest!)
    return digest
  }

  /** Refuses a plan that is not the one that was shown, with what is different. */
  refuseAnother(shown: string, definition: ReplicateDefinition, plan: Plan): void {
    const now = outlineOf(plan)
    if (digestOf(definition, now) === shown) return
    const before = this.outlines.get(shown)
    const differences = before ? planDifference(before, now) : []
    const told = differences.slice(0, TOLD).join(' ')
    const more = differences.length > TOLD ? ` And ${differences.length - TOLD} more.` : ''
    throw new Failure(
      'refused',
      `This is not the plan that was shown any more. ${told || 'The setup was changed.'}${more}`,
      'Look at the plan as it is now, and start again.',
    )
  }
}

/** Of what is done; the name is not part of it. */
function digestOf(definition: ReplicateDefinition, outline: PlanOutline): string {
  const what = canonicalJson([{ ...definition, name: '' }, outline])
  return createHash('sha256').update(what).digest('hex').slice(0, 32)
}
