import { useEffect } from 'react'
import { create } from 'zustand'

interface Crumb {
  title: string
  to?: string
}

export const useCrumbs = create<{ crumbs: Crumb[] }>(() => ({ crumbs: [] }))

/** Says where this page is, for the top strip and the window's title. */
export function useWhere(...crumbs: Crumb[]): void {
  const key = JSON.stringify(crumbs)
  useEffect(() => {
    const here: Crumb[] = JSON.parse(key)
    useCrumbs.setState({ crumbs: here })
    document.title = `${here
      .map(({ title }) => title)
      .reverse()
      .join(' · ')} · Constant Tide`
  }, [key])
}
