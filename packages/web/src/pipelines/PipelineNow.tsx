import type { PipelineStatus } from '@tide/core/api/pipelines'
import { useOutletContext } from 'react-router'
import { SendNow } from '../sending/SendNow.tsx'
import { isSending } from '../sending/status.ts'
import { isTwoWay } from '../two-way/status.ts'
import { TwoWayNow } from '../two-way/TwoWayNow.tsx'
import { NowSection } from './NowSection.tsx'

/** How a pipeline stands, by its shape. */
export function PipelineNow() {
  const pipeline = useOutletContext<PipelineStatus>()
  if (isTwoWay(pipeline)) return <TwoWayNow />
  return isSending(pipeline) ? <SendNow /> : <NowSection />
}
