import { useEffect, useState } from 'react'

const SETTLES_MS = 500

/** The value once nobody has changed it for a moment. */
export function useSettled<T>(value: T): T {
  const [settled, setSettled] = useState(value)
  useEffect(() => {
    const timer = setTimeout(() => setSettled(value), SETTLES_MS)
    return () => clearTimeout(timer)
  }, [value])
  return settled
}
