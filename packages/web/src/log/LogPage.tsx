import { useWhere } from '../frame/crumbs.ts'
import { LogList } from './LogList.tsx'

export function LogPage() {
  useWhere({ title: 'Log' })
  return (
    <main className="min-w-0 flex-1 overflow-auto px-6 py-4">
      <h1 className="mb-3 text-[20px]">Log</h1>
      <LogList />
    </main>
  )
}
