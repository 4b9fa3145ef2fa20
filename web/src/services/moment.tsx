import Box from '@mui/material/Box'
import Typography from '@mui/material/Typography'
import { useSearchParams } from 'react-router'
import type { Schemas } from '../api/client'
import { useKinds, useMoment } from '../api/queries'
import { Trouble } from '../parts/trouble'
import { clock, duration, fullTime, shortTime } from '../time/format'
import { useZone } from '../time/span'
import { FindingsView } from './findings'
import { inOrder } from './measures'
import './moment.css'

/** Why the selected moment counts as it does: rule by rule, down to the measurements. */
export function MomentAside({ service, at }: { service: string; at: number | undefined }) {
  const iso = at === undefined ? undefined : new Date(Math.floor(at)).toISOString()
  const moment = useMoment(service, iso)
  const { zone } = useZone()
  const [, setParams] = useSearchParams()
  if (!iso) {
    return (
      <Box component="aside" sx={{ paddingTop: '26px' }} aria-label="The selected moment">
        <Typography variant="h2" sx={{ mt: 3, mb: 1 }}>Ask any moment why</Typography>
        <p className="sub">Click on a strip. The arrow keys go from change to change. Here it says what the moment counts as, by which rule, and which measurements are behind it.</p>
      </Box>
    )
  }
  const close = () =>
    setParams(
      (p) => {
        p.delete('at')
        return p
      },
      { replace: true },
    )
  return (
    <Box component="aside" sx={{ paddingTop: '26px' }} className="moment" aria-label="The selected moment">
      <Typography variant="h2" sx={{ marginBottom: 0 }}>{fullTime(iso, zone)}</Typography>
      <div className="sub">
        {zone} ·{' '}
        <button type="button" className="link" onClick={close}>
          close
        </button>
      </div>
      <Trouble error={moment.error} />
      {moment.data && <Reasons moment={moment.data} />}
    </Box>
  )
}

function Reasons({ moment }: { moment: Schemas['Moment'] }) {
  const s = moment.service
  const { zone } = useZone()
  const name = (kind: string, id: string) => moment.names[`${kind} ${id}`] ?? id
  return (
    <>
      {moment.agreements.map((a) => (
        <section key={a.agreement}>
          <Typography variant="h3" sx={{ mt: 1.5, mb: 0.5 }}>
            {a.name}: <span className={`word-${a.class}`}>{a.class}</span>
          </Typography>
          <ol className="rules">
            {a.rules
              .filter((r) => r.decides || r.number < (a.rules.find((x) => x.decides)?.number ?? 7))
              .map((r) => (
                <li key={r.number} className={r.decides ? 'decides' : undefined}>
                  <span>{r.number}</span>
                  <span>{inZone(r.text, zone)}</span>
                </li>
              ))}
          </ol>
        </section>
      ))}
      <section>
        <Typography variant="h3" sx={{ mt: 1.5, mb: 0.5 }}>
          The service: <span className={`word-${s.state}`}>{s.state}</span>
        </Typography>
        <div className="sub">{s.text}</div>
      </section>
      {s.groups.map((g) => (
        <section key={g.services.join()}>
          <Typography variant="h3" sx={{ mt: 1.5, mb: 0.5 }}>
            {g.text}: <span className={`word-${g.state}`}>{g.state}</span>
          </Typography>
          {g.services.map((id, i) => (
            <div key={id}>
              {name('service', id)}: <span className={`word-${g.states[i]}`}>{g.states[i]}</span>
            </div>
          ))}
        </section>
      ))}
      {s.checks.map((c) => (
        <section key={c.check}>
          <Typography variant="h3" sx={{ mt: 1.5, mb: 0.5 }}>
            {name('check', c.check)}: <span className={`word-${c.state}`}>{c.state}</span>
          </Typography>
          <div className="sub">{c.text}</div>
          {c.locations.map((l) => (
            <Box key={l.location} sx={{ marginTop: '6px' }}>
              {name('location', l.location)}: <span className={`word-${l.state}`}>{l.state}</span>
              <div className="sub">{inZone(l.text, zone)}</div>
              <SampleView sample={moment.samples[`${c.check} ${l.location}`]} kind={moment.kinds[c.check]} />
            </Box>
          ))}
        </section>
      ))}
    </>
  )
}

/** Writes the instants in a sentence of the server's as times in a zone. */
const inZone = (text: string, zone: string) => text.replace(/\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d\.\d{3}Z/g, (at) => shortTime(at, zone))

function SampleView({ sample, kind }: { sample: Schemas['Sample'] | null | undefined; kind: string | undefined }) {
  const { zone } = useZone()
  const kinds = useKinds()
  if (!sample) return <div className="sub">the raw measurement is no longer kept; the stretch above is what was judged</div>
  const late = 60 // seconds, after which a delivery was held up
  const unsure = 1000 // ms, beyond which an instant is called uncertain
  return (
    <>
      <dl>
        <dt>measured</dt>
        <dd>{clock(sample.at, zone)}</dd>
        <dt>outcome</dt>
        <dd>{sample.outcome}</dd>
        {inOrder(
          kinds.data?.find((k) => k.name === kind),
          sample.measures,
          sample.findings?.cut,
        ).map((m) => (
          <Box key={m.name} sx={{ display: 'contents' }}>
            <dt>{m.text}</dt>
            <dd>
              {m.value} {m.unit}
            </dd>
          </Box>
        ))}
        {sample.clock && sample.clock.uncertain_ms > unsure && (
          <>
            <dt>uncertain</dt>
            <dd>by ± {(sample.clock.uncertain_ms / 1000).toFixed(1)} s: the agent had not heard of a server for long, and placed it by its own count</dd>
          </>
        )}
        {sample.delay_s > late && (
          <>
            <dt>arrived</dt>
            <dd>{duration(sample.delay_s * 1000)} later: the agent was cut off from the server and kept it</dd>
          </>
        )}
        {sample.detail && (
          <>
            <dt>detail</dt>
            <dd>{sample.detail}</dd>
          </>
        )}
      </dl>
      {sample.route && (
        <div className="sub" data-route={sample.route.route}>
          {sample.route.before
            ? `Route ${sample.route.route} since ${shortTime(sample.route.since, zone)}; before, it was ${sample.route.before}${sample.route.change ? `: ${sample.route.change}` : ''}.`
            : `Route ${sample.route.route} for a day, or since measuring began, without a change.`}
        </div>
      )}
      <FindingsView findings={sample.findings} />
    </>
  )
}
