import type { PipelineStatus } from '@tide/core/api/pipelines'
import { useOutletContext } from 'react-router'
import { SendNow } from '../sending/SendNow.tsx'
import { isSending } from '../sending/status.ts'
import { NowSection } from './NowSection.tsx'

/** How a pipeline stands, by its shape. */
export function PipelineNow() {
  return isSending(useOutletContext<PipelineStatus>()) ? <SendNow /> : <NowSection />
}
