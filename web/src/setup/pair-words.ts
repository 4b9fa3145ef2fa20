import type { Schemas } from '../api/client'

export type Plan = Schemas['DefinedPairPlanSpec']

/** The kinds of check that are made between locations, and the shapes of a plan, in words. */
export const pairKinds = { path: 'path', ping: 'ping', udp: 'UDP echo' } as const
export const shapes = { full: 'every location with every other', regions: 'one link between regions, all pairs inside each', picked: 'picked pairs' } as const
