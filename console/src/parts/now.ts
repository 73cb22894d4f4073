import { useEffect, useState } from 'react'

/** The time, renewed every so many milliseconds; 0 stops it. */
export function useNow(every: number): number {
  const [now, setNow] = useState(Date.now)
  useEffect(() => {
    if (every === 0) return
    const timer = setInterval(() => setNow(Date.now()), every)
    return () => clearInterval(timer)
  }, [every])
  return now
}
