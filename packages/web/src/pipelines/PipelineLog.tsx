import { useParams } from 'react-router'
import { LogList } from '../log/LogList.tsx'
import { usePositions } from './rewind/usePositions.ts'

/** What happened to one pipeline; from its positions and times one can go back to them. */
export function PipelineLog() {
  const { id } = useParams()
  const journals = usePositions(id!).data?.journals ?? []
  return (
    <div className="py-3">
      <LogList pipeline={id!} kinds={[...new Set(journals.map(({ kind }) => kind))]} />
    </div>
  )
}
