/** A number as people write it, as the server reads it: a decimal comma is a point, and a percent sign may stand behind. Anything else stays as it is. */
export function decimal(text: string): string {
  const bare = text.trim().replace(/\s*%$/, '')
  return /^[-+]?\d*,\d+$/.test(bare) ? bare.replace(',', '.') : bare
}

/** What is wrong with a target; true when nothing is. */
export function validTarget(v: string): string | true {
  const d = decimal(v)
  return (/^\d{1,3}(\.\d{1,6})?$/.test(d) && Number(d) <= 100) || 'A percentage between 0 and 100, such as 99.95'
}

/** What is wrong with a number that may be left away; true when nothing is. */
export function validAmount(v: string): string | true {
  return /^(\d+(\.\d+)?)?$/.test(decimal(v)) || 'A number, such as 1.5'
}
