/** Starts of pipelines, one after another: two into one table must not both find it free. */
import type { PlanAnswer } from '@tide/core/api/plans'
import { Failure } from '@tide/core/failure'
import { hinders } from '@tide/core/plan/note'
import { tiesOf } from './affinity.ts'
import { pipelineRecord } from './pipeline-record.ts'
import { planFor } from './plan.ts'
import type { Services } from './services.ts'

/** What is done alone among all starts; no pipeline has such an id. */
export const STARTS = 'all starts'

/** `shown`: the digest of the plan that somebody has seen; another one is refused. */
export function startPipeline(services: Services, id: string, shown: string | undefined): Promise<void> {
  const { store, engine } = services
  return engine.inTurn(STARTS, () =>
    store.alone('start', async () => {
      const { definition, of } = await pipelineRecord(services, id)
      if (of !== null) {
        const [tie] = await tiesOf(services, id, definition)
        return engine.beginAgain(id, tie!)
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
