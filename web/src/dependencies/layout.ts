import dagre from '@dagrejs/dagre'
import type { Node } from './queries'

/** What is drawn: a service, several alike that are folded into one, or the junction of a group of which not all are needed. */
export type Drawn = { id: string; members: Node[]; /** They need nothing, and nothing needs them. */ alone: boolean; x: number; y: number; width: number; height: number }
export type Junction = { id: string; need: number; of: number; up: number; x: number; y: number }
export type Line = { id: string; points: { x: number; y: number }[] }
export type Layout = { nodes: Drawn[]; junctions: Junction[]; lines: Line[]; width: number; height: number }

const nodeWidth = 148
const nodeHeight = 42

/** How many services alike are drawn as one. */
const folds = 4

const alone = 'alone'

/** Services that need the same and are needed by the same, in lists, by what they have in common. */
function alike(nodes: Node[]): Map<string, Node[]> {
  const users = new Map<string, string[]>()
  for (const n of nodes) for (const [i, g] of n.groups.entries()) for (const m of g.services) users.set(m, [...(users.get(m) ?? []), `${n.service} ${i}`])
  const by = new Map<string, Node[]>()
  for (const n of nodes) {
    const needs = JSON.stringify(n.groups.map((g) => [g.need, g.services]))
    const key = n.groups.length === 0 && !users.has(n.service) ? alone : `${needs} ${(users.get(n.service) ?? []).sort().join(' ')}`
    by.set(key, [...(by.get(key) ?? []), n])
  }
  return by
}

/** Lays the graph out from left, what needs, to right, what is needed. It follows from what needs what alone: a state that changes moves nothing. */
export function layOut(all: Node[], unfolded: ReadonlySet<string>): Layout {
  const shown = new Set(all.map((n) => n.service))
  const g = new dagre.graphlib.Graph()
  g.setGraph({ rankdir: 'LR', nodesep: 14, ranksep: 26, marginx: 8, marginy: 8 })
  g.setDefaultEdgeLabel(() => ({}))
  const home = new Map<string, string>() // by service, the id of what it is drawn in
  const drawn = new Map<string, Node[]>()
  const apart: string[] = [] // ids of what stands below the graph
  for (const [common, list] of alike(all)) {
    const id = `fold ${list[0]?.service ?? ''}`
    if (list.length >= folds && !unfolded.has(id)) {
      drawn.set(id, list)
      for (const n of list) home.set(n.service, id)
      if (common === alone) apart.push(id)
    } else {
      for (const n of list) {
        drawn.set(n.service, [n])
        home.set(n.service, n.service)
        if (common === alone) apart.push(n.service)
      }
    }
  }
  for (const id of drawn.keys()) if (!apart.includes(id)) g.setNode(id, { width: nodeWidth, height: nodeHeight })
  const junctions = new Map<string, { need: number; of: number; up: number }>()
  for (const [id, members] of drawn) {
    for (const [i, group] of (members[0]?.groups ?? []).entries()) {
      const to = [...new Set(group.services.filter((m) => shown.has(m)).map((m) => home.get(m) ?? m))]
      if (group.need < group.services.length) {
        const j = `${id} needs ${i}`
        junctions.set(j, { need: group.need, of: group.services.length, up: group.up })
        g.setNode(j, { width: 44, height: 20 })
        g.setEdge(id, j)
        for (const m of to) g.setEdge(j, m)
      } else {
        for (const m of to) g.setEdge(id, m)
      }
    }
  }
  dagre.layout(g)
  const size = g.graph() as { width?: number; height?: number }
  const below = drawn.size > apart.length ? (size.height ?? 0) + 18 : 8
  const perRow = Math.max(3, Math.floor((size.width ?? 0) / (nodeWidth + 20)))
  const place = (id: string) => {
    const n = apart.indexOf(id)
    if (n < 0) return g.node(id) as { x: number; y: number }
    return { x: 8 + nodeWidth / 2 + (n % perRow) * (nodeWidth + 20), y: below + nodeHeight / 2 + Math.floor(n / perRow) * (nodeHeight + 14) }
  }
  // From the middle of a side to the middle of a side; long ones by the way that was left for them.
  const ends = (id: string, right: boolean) => ({ x: place(id).x + ((right ? 1 : -1) * (g.node(id) as { width: number }).width) / 2, y: place(id).y + (junctions.has(id) ? 0 : nodeHeight / 2 - 6) })
  return {
    nodes: [...drawn].map(([id, members]) => ({ id, members, alone: apart.includes(id), width: nodeWidth, height: nodeHeight, x: place(id).x - nodeWidth / 2, y: place(id).y - nodeHeight / 2 })),
    junctions: [...junctions].map(([id, j]) => ({ id, ...j, x: place(id).x, y: place(id).y })),
    lines: g.edges().map((e) => {
      const points = (g.edge(e) as { points: Line['points'] }).points
      return { id: `${e.v} ${e.w}`, points: [ends(e.v, true), ...(points.length > 3 ? points.slice(1, -1) : []), ends(e.w, false)] }
    }),
    width: Math.max(size.width ?? 0, apart.length ? 16 + Math.min(apart.length, perRow) * (nodeWidth + 20) : 0),
    height: below + Math.ceil(apart.length / perRow) * (nodeHeight + 14) + 8,
  }
}
