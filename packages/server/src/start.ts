/** Starts of pipelines, one after another: two into one table must not both find it free. */
import type { PlanAnswer } from '@tide/core/api/plans'
import { asReplication } from '@tide/core/definition/definition'
import { Failure } from '@tide/core/failure'
import { hinders } from '@tide/core/plan/note'
import { tiesOf, twoWayTie } from './affinity.ts'
import { pipelineRecord } from './pipeline-record.ts'
import { planFor } from './plan.ts'
import { sendPlan } from './send-plan.ts'
import type { Services } from './services.ts'
import { twoWayPlan } from './two-way-plan.ts'

/** What is done alone among all starts; no pipeline has such an id. */
export const STARTS = 'all starts'

/** `shown`: the digest of the plan that somebody has seen; another one is refused. */
export function startPipeline(services: Services, id: string, shown: string | undefined): Promise<void> {
  const { store, engine } = services
  return engine.inTurn(STARTS, () =>
    store.alone('start', async () => {
      const { definition, of } = await pipelineRecord(services, id)
      if (of !== null) {
        const [tie] = await tiesOf(services, id, asReplication(definition))
        return engine.beginAgain(id, tie!)
      }
      if (definition.shape === 'send') {
        const refusal = (await sendPlan(services, definition, id)).find(hinders)
        if (refusal) throw new Failure('refused', refusal.message, refusal.remedy)
        const { home } = services
        const tie = { home, affinity: 'the record of what was sent' }
        return engine.begin(id, { definition, lanes: [], steps: [] }, [tie])
      }
      if (definition.shape === 'two-way') {
        const refusal = (await twoWayPlan(services, definition, id)).find(hinders)
        if (refusal) throw new Failure('refused', refusal.message, refusal.remedy)
        return engine.begin(id, { definition, lanes: [], steps: [] }, [
          await twoWayTie(services, id, definition),
        ])
      }
      const plan = await planFor(services, definition, { pipeline: id, fresh: true })
      if (shown !== undefined) services.shownPlans.refuseAnother(shown, definition, plan)
      refuseHindered(plan)
      const { lanes, steps } = plan
      await engine.begin(id, { definition, lanes, steps }, await tiesOf(services, id, definition))
    }),
  )
}

export function refuseHindered({ notes }: PlanAnswer): void {
  const refusal = notes.find(hinders)
  if (refusal) throw new Failure('refused', refusal.message, refusal.remedy)
}
