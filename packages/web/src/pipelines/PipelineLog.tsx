import { useParams } from 'react-router'
import { LogList } from '../log/LogList.tsx'

export function PipelineLog() {
  const { id } = useParams()
  return (
    <div className="py-3">
      <LogList pipeline={id!} />
    </div>
  )
}
