import type { Account } from '../api/client'

/** How an account stands, in a word. */
export function standingWord(a: Pick<Account, 'figures' | 'pace' | 'fault'>): string {
  if (a.fault) return 'unknown'
  if (a.figures.verdict === 'on-track') return a.pace?.at_risk ? 'at risk' : 'on track'
  return a.figures.verdict.replace('-', ' ')
}
