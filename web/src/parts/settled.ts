import { useEffect, useState } from 'react'

/** The value as it was when it last stayed the same for a while. The key stands for the value. */
export function useSettled<T>(value: T, key: string, ms: number): T {
  const [settled, setSettled] = useState({ value, key })
  useEffect(() => {
    const timer = setTimeout(() => setSettled({ value, key }), ms)
    return () => clearTimeout(timer)
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [key, ms])
  return settled.value
}
