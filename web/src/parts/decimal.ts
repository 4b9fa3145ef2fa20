/** What is wrong with a target; true when nothing is. */
export function validTarget(v: string): string | true {
  return (/^\d{1,3}(\.\d{1,6})?$/.test(v.trim()) && Number(v) <= 100) || 'A percentage between 0 and 100, such as 99.95'
}
