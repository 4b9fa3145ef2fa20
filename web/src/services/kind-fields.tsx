import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Checkbox from '@mui/material/Checkbox'
import FormControlLabel from '@mui/material/FormControlLabel'
import MenuItem from '@mui/material/MenuItem'
import TextField from '@mui/material/TextField'
import type { ReactNode } from 'react'
import { Controller, useFieldArray, type FieldPath, type UseFormReturn } from 'react-hook-form'
import type { Schemas } from '../api/client'
import { useChecks, useCredentials, useKinds, useMayDefine, useServices } from '../api/queries'

export type Draft = Schemas['CheckSpec'] & { reason: string }
export type DraftForm = UseFormReturn<Draft>
type Name = FieldPath<Draft>

/** What is wrong with a field, by its name. */
export const faultAt = (form: DraftForm, name: Name) => form.getFieldState(name, form.formState).error?.message

export function NumberField({ form, name, label, unit, min, max, help }: { form: DraftForm; name: Name; label: string; unit: string; min: number; max: number; help?: ReactNode }) {
  const fault = faultAt(form, name)
  return (
    <TextField
      label={label}
      type="number"
      required
      error={Boolean(fault)}
      helperText={fault ?? help}
      slotProps={{ htmlInput: { min, max }, input: { endAdornment: unit } }}
      {...form.register(name, { valueAsNumber: true, min: { value: min, message: `At least ${min} ${unit}` }, max: { value: max, message: `At most ${max} ${unit}` } })}
    />
  )
}

/** A number that may be left away. */
function Optional({ form, name, label, unit, min, max, help }: { form: DraftForm; name: Name; label: string; unit: string; min: number; max: number; help: string }) {
  const fault = faultAt(form, name)
  return (
    <TextField
      label={label}
      type="number"
      error={Boolean(fault)}
      helperText={fault ?? help}
      slotProps={{ htmlInput: { min, max }, input: { endAdornment: unit } }}
      {...form.register(name, { setValueAs: (v: unknown) => (v === '' || v === undefined || v === 0 || Number.isNaN(Number(v)) ? undefined : Number(v)) })}
    />
  )
}

export function Words({ form, name, label, help, lines }: { form: DraftForm; name: Name; label: string; help?: ReactNode; lines?: number }) {
  const fault = faultAt(form, name)
  return <TextField label={label} error={Boolean(fault)} helperText={fault ?? help} multiline={Boolean(lines)} minRows={lines} {...form.register(name)} />
}

export function Choice({ form, name, label, of, help }: { form: DraftForm; name: Name; label: string; of: Record<string, string>; help?: string }) {
  const fault = faultAt(form, name)
  return (
    <Controller
      control={form.control}
      name={name}
      render={({ field }) => (
        <TextField
          select
          label={label}
          error={Boolean(fault)}
          helperText={fault ?? help}
          {...field}
          value={field.value ?? ''}
          slotProps={'' in of ? { select: { displayEmpty: true }, inputLabel: { shrink: true } } : undefined}
>
          {Object.entries(of).map(([value, text]) => (
            <MenuItem key={value} value={value}>
              {text}
            </MenuItem>
          ))}
        </TextField>
      )}
    />
  )
}

function Tick({ form, name, label }: { form: DraftForm; name: Name; label: string }) {
  return (
    <Controller
      control={form.control}
      name={name}
      render={({ field }) => <FormControlLabel label={label} control={<Checkbox size="small" checked={Boolean(field.value)} onChange={(_, on) => field.onChange(on)} />} />}
    />
  )
}

const same = (...words: string[]) => Object.fromEntries(words.map((w) => [w, w]))

/** How one measurement is made. */
export function HowFields({ form }: { form: DraftForm }) {
  const kind = form.watch('kind')
  switch (kind) {
    case 'ping':
      return (
        <>
          <div className="side">
            <NumberField form={form} name="ping.packets" label="Packets" unit="" min={1} max={100} />
            <NumberField form={form} name="ping.spacing_ms" label="Spacing" unit="ms" min={10} max={10000} />
            <NumberField form={form} name="ping.size_bytes" label="Payload" unit="B" min={8} max={8192} />
          </div>
          <More what="Second target, priority">
            <div className="side">
              <Words form={form} name="ping.second" label="Second target" help="It fails only when both do" />
              <Words form={form} name="ping.dscp" label="DSCP" help="0 to 63; empty: 0" />
            </div>
          </More>
        </>
      )
    case 'http':
      return <RequestFields form={form} />
    case 'path':
      return (
        <>
          <div className="side">
            <Choice form={form} name="path.method" label="By" of={{ icmp: 'ICMP echo', udp: 'UDP', tcp: 'TCP SYN' }} />
            {form.watch('path.method') !== 'icmp' && <Words form={form} name="path.port" label="Port" help={form.watch('path.method') === 'udp' ? 'Empty: 33434' : 'Empty: 443'} />}
            <NumberField form={form} name="path.rounds" label="Rounds" unit="" min={1} max={20} help="Packets to each hop" />
          </div>
          <div className="side">
            <NumberField form={form} name="path.spacing_ms" label="Between rounds" unit="ms" min={10} max={10000} />
            <NumberField form={form} name="path.max_hops" label="Hops at most" unit="" min={1} max={64} />
            <Words form={form} name="path.size_bytes" label="Packet size" help="60 to 1500 B; empty: 60" />
          </div>
          <div>
            <Tick form={form} name="path.names" label="Look up the hops’ names" />
          </div>
        </>
      )
    case 'udp':
      return (
        <>
          <div className="side">
            <Choice form={form} name="udp.codec" label="Codec played" of={{ g711: 'G.711, 64 kbit/s', g729: 'G.729, 8 kbit/s' }} />
            <NumberField form={form} name="udp.packets" label="Packets, 20 ms apart" unit="" min={1} max={3000} />
            <Words form={form} name="udp.dscp" label="DSCP" help="Voice uses 46; empty: 0" />
          </div>
          <div>
            <Tick form={form} name="udp.synchronised" label="The clocks of both ends are synchronised" />
            <div className="sub">Without that, delays one way cannot be told apart; jitter, loss, R and MOS can.</div>
          </div>
        </>
      )
    case 'certificate':
      return (
        <div className="side">
          <Choice form={form} name="certificate.starttls" label="TLS begins" of={{ '': 'at once', smtp: 'after STARTTLS (SMTP)', imap: 'after STARTTLS (IMAP)', pop3: 'after STLS (POP3)', ftp: 'after AUTH TLS (FTP)', postgres: 'after SSLRequest (PostgreSQL)' }} />
          <Words form={form} name="certificate.server_name" label="Name to ask for and to find" help="Empty: the target’s host" />
        </div>
      )
    case 'dns':
      return (
        <div className="side">
          <Choice form={form} name="dns.type" label="Record" of={same('A', 'AAAA', 'CNAME', 'MX', 'NS', 'TXT', 'SOA', 'SRV', 'CAA', 'PTR')} />
          <Words form={form} name="dns.resolver" label="Resolver" help="Empty: the agent’s own" />
        </div>
      )
    case 'report-in':
      return (
        <Controller
          control={form.control}
          name="report_in.numbers"
          render={({ field }) => (
            <TextField
              label="Numbers that come with a report"
              helperText="Up to four names, with commas between: bookings, queue"
              defaultValue={(field.value ?? []).join(', ')}
              onChange={(e) => field.onChange(e.target.value.split(',').map((n) => n.trim()).filter(Boolean).slice(0, 4))}
            />
          )}
        />
      )
    case 'derived':
      return <SourceFields form={form} />
  }
  return null
}

function More({ what, open, children }: { what: string; open?: boolean; children: React.ReactNode }) {
  return (
    <details className="more" open={open}>
      <summary>{what}</summary>
      {children}
    </details>
  )
}

function RequestFields({ form }: { form: DraftForm }) {
  const credentials = useCredentials()
  const may = useMayDefine()
  const headers = useFieldArray({ control: form.control, name: 'http.headers' })
  const http = form.getValues('http')
  const live = (credentials.data ?? []).filter((c) => !c.retired)
  return (
    <>
      <div className="side">
        <Choice form={form} name="http.method" label="Method" of={same('GET', 'HEAD', 'POST', 'PUT', 'PATCH', 'DELETE', 'OPTIONS')} />
        <Choice form={form} name="http.version" label="HTTP version" of={{ '': 'either', '1.1': '1.1', '2': '2' }} />
        <NumberField form={form} name="http.redirects" label="Redirects followed" unit="" min={0} max={10} />
      </div>
      <More what="Headers, body, sign-in" open={Boolean(http?.headers?.length || http?.body || http?.credential || http?.waive_trust || http?.max_body_bytes)}>
        <Choice form={form} name="http.credential" label="Sign in with" of={{ '': 'nothing', ...Object.fromEntries(live.map((c) => [c.id, c.spec.name])) }} help="Credentials are entered once, under Set-up" />
        {headers.fields.map((f, i) => (
          <Box className="side" key={f.id} sx={{ gridTemplateColumns: '1fr 2fr auto' }}>
            <Words form={form} name={`http.headers.${i}.name`} label="Header" />
            <Words form={form} name={`http.headers.${i}.value`} label="Value" />
            {may && (
              <Button variant="text" aria-label={`Take away header ${i + 1}`} onClick={() => headers.remove(i)}>
                ×
              </Button>
            )}
          </Box>
        ))}
        {may && (
          <div>
            <Button variant="text" onClick={() => headers.append({ name: '', value: '' })}>
              Add a header
            </Button>
          </div>
        )}
        <Words form={form} name="http.body" label="Body" lines={2} />
        <Optional form={form} name="http.max_body_bytes" label="Read of the answer’s body" unit="B" min={1} max={268435456} help="Empty: 16 MiB. A longer one is cut, and degraded" />
        <div>
          <Tick form={form} name="http.waive_trust" label="Take a certificate that is not trusted" />
        </div>
      </More>
    </>
  )
}

/** What answer is expected. */
export function ExpectFields({ form }: { form: DraftForm }) {
  const kind = form.watch('kind')
  const http = form.getValues('http')
  switch (kind) {
    case 'http':
      return (
        <>
          <div className="side">
            <Words form={form} name="http.status" label="Expected status" help="Such as 200-299,304" />
            <Words form={form} name="http.text" label="Text that must be there" />
          </div>
          <More what="Patterns, forbidden text, a value in the answer" open={Boolean(http?.pattern || http?.forbidden_text || http?.forbidden_pattern || http?.json_path)}>
            <div className="side">
              <Words form={form} name="http.pattern" label="Pattern that must match" help="A regular expression" />
              <Words form={form} name="http.forbidden_text" label="Text that must not be there" />
            </div>
            <div className="side">
              <Words form={form} name="http.forbidden_pattern" label="Pattern that must not match" />
              <Words form={form} name="http.json_path" label="JSONPath of a number" help="Such as $.bookings.last_hour; it becomes the measure “value”" />
            </div>
          </More>
        </>
      )
    case 'certificate':
      return (
        <div>
          <Tick form={form} name="certificate.waive_trust" label="Take a chain that leads to no trusted root" />
          <Tick form={form} name="certificate.waive_name" label="Take a certificate for another name" />
          {(form.watch('certificate.waive_trust') || form.watch('certificate.waive_name')) && <div className="sub">A waiver is shown wherever the check is. Expiry is judged all the same.</div>}
        </div>
      )
    case 'dns':
      return (
        <>
          <Words form={form} name="dns.expect" label="Answer that must be there" />
          <div>
            <Tick form={form} name="dns.signed" label="Verified by DNSSEC" />
          </div>
        </>
      )
  }
  return null
}

function SourceFields({ form }: { form: DraftForm }) {
  const sources = useFieldArray({ control: form.control, name: 'derived.sources' })
  const checks = useChecks()
  const may = useMayDefine()
  const services = useServices()
  const kinds = useKinds()
  const others = (checks.data ?? []).filter((c) => !c.retired && c.spec.kind !== 'derived')
  const named = Object.fromEntries(others.map((c) => [c.id, `${services.data?.find((s) => s.id === c.spec.service)?.spec.name ?? c.spec.service}: ${c.spec.name}`]))
  const fault = faultAt(form, 'derived.sources')
  return (
    <>
      <Choice
        form={form}
        name="derived.operation"
        label="Computed as"
        of={{ sum: 'the sum', difference: 'the first less the others', mean: 'the mean', min: 'the lowest', max: 'the highest', share: 'the first in percent of the others’ sum' }}
      />
      {sources.fields.map((f, i) => {
        const of = others.find((c) => c.id === form.watch(`derived.sources.${i}.check`))
        const measures = kinds.data?.find((k) => k.name === of?.spec.kind)?.measures ?? []
        return (
          <Box className="side" key={f.id} sx={{ gridTemplateColumns: '2fr 2fr auto' }}>
            <Choice form={form} name={`derived.sources.${i}.check`} label="Check" of={named} />
            <Choice form={form} name={`derived.sources.${i}.measure`} label="Measure" of={Object.fromEntries(measures.map((m) => [m.name, m.unit ? `${m.text}, ${m.unit}` : m.text]))} />
            {may && (
              <Button variant="text" aria-label={`Take away measure ${i + 1}`} onClick={() => sources.remove(i)}>
                ×
              </Button>
            )}
          </Box>
        )
      })}
      {fault && <p className="trouble">{fault}</p>}
      <div>
        {may && (
          <Button variant="text" onClick={() => sources.append({ check: '', measure: '' })}>
            Add a measure
          </Button>
        )}
        <span className="sub"> Of several locations it is the mean; a value that is stale makes the result unmeasured.</span>
      </div>
    </>
  )
}
