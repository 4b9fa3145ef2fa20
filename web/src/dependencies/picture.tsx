import { useMemo, useState } from 'react'
import { layOut, type Drawn } from './layout'
import type { Node } from './queries'

const order = ['down', 'degraded', 'unmeasured', 'up']

/** How high each state stands, as on the strips: it says which it is without colour too. */
const heights: Record<string, number> = { up: 7, unmeasured: 7, degraded: 14, down: 26 }

const wordOf = (state: string) => (state === 'unmeasured' ? 'not measured' : state)

type Props = { nodes: Node[]; picked: string; onPick: (service: string) => void }

/** Which services need which: those that need others at the left, what is needed at the right. */
export function Picture({ nodes, picked, onPick }: Props) {
  const [unfolded, setUnfolded] = useState<ReadonlySet<string>>(new Set())
  // The layout follows from names and needs, and not from states.
  const shape = JSON.stringify(nodes.map((n) => [n.service, n.name, n.groups.map((g) => [g.need, g.services])]))
  const layout = useMemo(
    () => layOut(nodes, unfolded),
    // eslint-disable-next-line react-hooks/exhaustive-deps
    [shape, unfolded],
  )
  const now = new Map(nodes.map((n) => [n.service, n]))
  const short = new Set(nodes.flatMap((n) => n.groups.map((g, i) => (g.up < g.need ? `${n.service} needs ${i}` : ''))))
  const ups = new Map<string, number>(nodes.flatMap((n) => n.groups.map((g, i) => [`${n.service} needs ${i}`, g.up] as const)))
  const sorted = [...layout.nodes].sort((a, b) => a.x - b.x || a.y - b.y)
  const current = sorted.find((d) => d.members.some((m) => m.service === picked)) ?? sorted[0]
  const go = (from: Drawn, key: string): Drawn | undefined => {
    const along = key === 'ArrowUp' || key === 'ArrowDown'
    const forward = key === 'ArrowDown' || key === 'ArrowRight'
    const rank = sorted.filter((d) => (along ? Math.abs(d.x - from.x) < 40 : forward ? d.x > from.x + 40 : d.x < from.x - 40))
    const far = (d: Drawn) => (along ? Math.abs(d.y - from.y) : Math.abs(d.x - from.x) * 4 + Math.abs(d.y - from.y))
    return rank.filter((d) => d !== from && (!along || (forward ? d.y > from.y : d.y < from.y))).sort((a, b) => far(a) - far(b))[0]
  }
  const pick = (d: Drawn) => {
    if (d.members.length > 1) setUnfolded(new Set([...unfolded, d.id]))
    else onPick(d.members[0]?.service ?? '')
  }
  return (
    <div className="picture" tabIndex={-1}>
      <svg width={layout.width} height={layout.height} role="group" aria-label="Which services need which" data-picture={nodes.length}>
        {layout.lines.map((l) => (
          <path key={l.id} d={curve(l.points)} fill="none" stroke="var(--ground)" strokeWidth="1" opacity={picked && !touches(l.id, picked) ? 0.35 : 0.9} />
        ))}
        {layout.junctions.map((j) => (
          <g key={j.id} data-junction={j.id}>
            <rect x={j.x - 22} y={j.y - 10} width="44" height="20" rx="10" fill="var(--mui-palette-background-default)" stroke={short.has(j.id) ? 'var(--down)' : 'var(--ground)'} strokeDasharray={(ups.get(j.id) ?? j.up) === j.need ? '3 2' : undefined} />
            <text x={j.x} y={j.y + 4} textAnchor="middle" fontSize="11" fill="currentColor">
              {j.need} of {j.of}
            </text>
          </g>
        ))}
        {sorted.map((d) => (
          <Box
            key={d.id}
            of={d}
            members={d.members.map((m) => now.get(m.service) ?? m)}
            picked={d.members.length === 1 && d.members[0]?.service === picked}
            stop={d === current}
            onPick={() => pick(d)}
            onKey={(e) => {
              const next = go(d, e.key)
              if (!next) return
              e.preventDefault()
              const at = e.currentTarget.ownerDocument.querySelector<SVGGElement>(`[data-node="${CSS.escape(next.id)}"]`)
              at?.focus()
            }}
          />
        ))}
      </svg>
    </div>
  )
}

const touches = (line: string, service: string) => line.split(' ').includes(service)

function curve(points: { x: number; y: number }[]): string {
  const [first, ...rest] = points
  if (!first) return ''
  let d = `M${first.x},${first.y}`
  let from = first
  for (const p of rest) {
    const middle = (from.x + p.x) / 2
    d += ` C${middle},${from.y} ${middle},${p.y} ${p.x},${p.y}`
    from = p
  }
  return d
}

type BoxProps = { of: Drawn; members: Node[]; picked: boolean; stop: boolean; onPick: () => void; onKey: (e: React.KeyboardEvent<SVGGElement>) => void }

/** One service over its ground line, its state standing on it as on the strips. */
function Box({ of: d, members, picked, stop, onPick, onKey }: BoxProps) {
  const first = members[0]
  const counts = order.map((s) => [s, members.filter((m) => m.state === s).length] as const).filter(([, n]) => n > 0)
  const worst = counts[0]?.[0] ?? 'unmeasured'
  const name = members.length === 1 ? (first?.name ?? '') : d.alone ? `${members.length} on their own` : `${members.length} services alike`
  const cut = name.length > 19
  const high = heights[worst] ?? 7
  const ground = d.y + d.height - 6
  return (
    <g
      role="button"
      tabIndex={stop ? 0 : -1}
      aria-pressed={picked}
      data-node={d.id}
      data-state={worst}
      className="pickable"
      onClick={onPick}
      onKeyDown={(e) => {
        if (e.key === 'Enter' || e.key === ' ') {
          e.preventDefault()
          onPick()
        } else onKey(e)
      }}
    >
      {cut && <title>{name}</title>}
      <rect x={d.x} y={d.y} width={d.width} height={d.height} fill={picked ? 'var(--faint)' : 'var(--mui-palette-background-default)'} />
      <rect
        x={d.x + 2}
        y={ground - high}
        width="8"
        height={high}
        fill={worst === 'unmeasured' ? 'none' : worst === 'degraded' ? 'url(#hatch-degraded)' : `var(--${worst})`}
        stroke={worst === 'unmeasured' ? 'var(--unmeasured)' : 'none'}
        strokeDasharray="2.5 2"
      />
      <line x1={d.x} x2={d.x + d.width} y1={ground} y2={ground} stroke={picked ? 'var(--mui-palette-primary-main)' : 'var(--ground)'} strokeWidth={picked ? 2 : 1} />
      <text x={d.x + 16} y={d.y + 14} fontSize="13" fontWeight="600" fill="currentColor">
        {cut ? `${name.slice(0, 18)}…` : name}
      </text>{' '}
      <text x={d.x + 16} y={d.y + 29} fontSize="11" fill={worst === 'up' ? 'var(--mui-palette-text-secondary)' : worst === 'down' ? 'var(--down)' : worst === 'degraded' ? 'var(--degraded-ink)' : 'var(--unmeasured-word)'}>
        {members.length === 1 ? wordOf(worst) : counts.map(([s, n]) => `${n} ${wordOf(s)}`).join(', ')}
        {members.length === 1 && first?.kind !== 'business' && ` · ${first?.kind ?? ''}`}
      </text>
    </g>
  )
}
