import Table from '@mui/material/Table'
import TableBody from '@mui/material/TableBody'
import TableCell from '@mui/material/TableCell'
import TableHead from '@mui/material/TableHead'
import TableRow from '@mui/material/TableRow'
import type { Schemas } from '../api/client'
import './findings.css'

type Findings = Schemas['Findings']

/** What a measurement saw beyond its measures. */
export function FindingsView({ findings: f }: { findings: Findings | undefined }) {
  if (!f) return null
  return (
    <div className="findings">
      {f.remote && !f.trace && <div className="sub">answered by {f.remote}</div>}
      {f.cut && <div className="sub">its body was cut: it is longer than the size says</div>}
      {f.tried && f.tried.length > 0 && <div className="sub">tried before: {f.tried.join('; ')}</div>}
      {f.notes?.map((n) => (
        <div key={n} className="sub">
          note: {n}
        </div>
      ))}
      {f.visited && f.visited.length > 0 && <div className="sub">redirected from {f.visited.join(', then ')}</div>}
      {f.answers?.map((a) => (
        <code key={a} className="line">
          {a}
        </code>
      ))}
      {f.trace && <Hops trace={f.trace} />}
      {f.chain && f.chain.length > 0 && <Chain chain={f.chain} />}
      {f.response && (
        <details open>
          <summary>The answer as received</summary>
          <code className="command">
            {f.response.status}
            {'\n'}
            {f.response.headers.join('\n')}
            {'\n\n'}
            {f.response.body}
          </code>
          {f.response.cut && <div className="sub">There was more of it; the first 16 KiB are kept.</div>}
        </details>
      )}
    </div>
  )
}

const ms = (v: number | null | undefined) => (v === null || v === undefined ? '' : v < 10 ? v.toFixed(2) : v.toFixed(1))

/** A path, hop by hop: a bar for the mean round trip, on one scale. */
function Hops({ trace }: { trace: Schemas['Trace'] }) {
  const longest = Math.max(0.001, ...trace.hops.map((h) => h.rtt_max_ms ?? 0))
  return (
    <>
      <Table className="hops">
        <caption>
          {trace.reached ? `${trace.target} reached by ${trace.method} in ${trace.hops.length} hops` : trace.end}, route {trace.route}
          {trace.changed && `; ${trace.changed}`}
        </caption>
        <TableHead>
          <TableRow>
            <TableCell>Hop</TableCell>
            <TableCell>Who</TableCell>
            <TableCell className="n">Loss</TableCell>
            <TableCell className="n">Mean</TableCell>
            <TableCell aria-hidden />
          </TableRow>
        </TableHead>
        <TableBody>
          {trace.hops.map((h) => (
            <TableRow key={h.ttl}>
              <TableCell>{h.ttl}</TableCell>
              <TableCell>
                {h.addrs.length === 0 ? <span className="sub">silent</span> : h.addrs.map((a, i) => <Who key={a} addr={a} name={h.names?.[i]} network={h.networks?.[i]} />)}
                {h.note && <div className="trouble">{h.note}</div>}
              </TableCell>
              <TableCell className="n">{h.loss_percent === null || h.loss_percent === undefined ? <span className="sub">unknown</span> : `${h.loss_percent.toFixed(0)} %`}</TableCell>
              <TableCell className="n">{ms(h.rtt_mean_ms) && `${ms(h.rtt_mean_ms)} ms`}</TableCell>
              <TableCell className="spread">
                {h.rtt_mean_ms !== null && h.rtt_mean_ms !== undefined && (
                  <svg width="60" height="10" role="img" aria-label={`${ms(h.rtt_min_ms)} to ${ms(h.rtt_max_ms)} ms`}>
                    <line x1={(60 * (h.rtt_min_ms ?? 0)) / longest} x2={(60 * (h.rtt_max_ms ?? 0)) / longest} y1="5" y2="5" stroke="currentColor" strokeWidth="1.5" />
                    <line x1={(60 * h.rtt_mean_ms) / longest} x2={(60 * h.rtt_mean_ms) / longest} y1="0" y2="10" stroke="currentColor" strokeWidth="2" />
                  </svg>
                )}
              </TableCell>
            </TableRow>
          ))}
        </TableBody>
      </Table>
    </>
  )
}

function Who({ addr, name, network }: { addr: string; name: string | undefined; network: string | undefined }) {
  return (
    <div>
      {addr} <span className="sub">{[name, network || 'unknown network'].filter(Boolean).join(' · ')}</span>
    </div>
  )
}

function Chain({ chain }: { chain: Schemas['Link'][] }) {
  return (
    <ol className="chain">
      {chain.map((c) => (
        <li key={c.serial + c.subject}>
          {c.subject}
          <div className="sub">
            issued by {c.issuer}, valid {c.not_before.slice(0, 10)} to {c.not_after.slice(0, 10)}, {c.key}, signed by {c.signature}
          </div>
        </li>
      ))}
    </ol>
  )
}
