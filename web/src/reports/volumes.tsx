import MenuItem from '@mui/material/MenuItem'
import Table from '@mui/material/Table'
import TableBody from '@mui/material/TableBody'
import TableCell from '@mui/material/TableCell'
import TableHead from '@mui/material/TableHead'
import TableRow from '@mui/material/TableRow'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { useQuery } from '@tanstack/react-query'
import { Controller } from 'react-hook-form'
import { useChange } from '../api/changes'
import { api, ask, type Schemas } from '../api/client'
import { useMay, useParties } from '../api/queries'
import { useForm } from '../parts/form'
import { FormEnd } from '../parts/form-end'
import { KeptNote, useKept } from '../parts/kept'
import { Awaited, showFaults } from '../parts/trouble'
import { LayoutPick } from '../setup/layout-pick'
import { shortTime } from '../time/format'
import { useZone } from '../time/span'
import { ReportsNav } from './head'
import './report.css'

const forms = ['pdf', 'html', 'xlsx', 'json'] as const

/** Published reports of one period side by side in one document. */
export function VolumesPage() {
  const volumes = useQuery({ queryKey: ['volumes'], queryFn: () => ask(api.GET('/api/v1/volumes')).then((l) => l.items) })
  const may = useMay()('publish')
  const { zone } = useZone()
  if (!volumes.data) return <Awaited error={volumes.error} />
  return (
    <>
      <ReportsNav />
      <div className="head">
        <Typography variant="h1">Volumes</Typography>
      </div>
      <p className="lead">A volume puts the published reports of a contract, a customer or the whole organisation in one document: all verdicts on its first page, then report after report, each with its number and code. It says nothing that they do not, and stays as it was made.</p>
      {volumes.data.length === 0 ? (
        <p className="empty">None was made yet.</p>
      ) : (
        <Table size="small" sx={{ maxWidth: 900 }}>
          <TableHead>
            <TableRow>
              <TableCell>Of</TableCell>
              <TableCell>Period</TableCell>
              <TableCell align="right">Reports</TableCell>
              <TableCell>Made</TableCell>
              <TableCell>Take it as</TableCell>
            </TableRow>
          </TableHead>
          <TableBody>
            {volumes.data.map((v) => (
              <TableRow key={v.id} data-volume={v.id}>
                <TableCell>
                  {v.of.name}
                  <div className="sub">{v.kind === 'all' ? 'all agreements' : v.kind}</div>
                </TableCell>
                <TableCell>{v.words}</TableCell>
                <TableCell align="right">{v.parts}</TableCell>
                <TableCell>
                  {shortTime(v.made_at, zone)}
                  <div className="sub">{v.made_by}</div>
                </TableCell>
                <TableCell className="in-one-line">
                  {forms.map((f) => (
                    <a key={f} className="link apart" href={`/api/v1/volumes/${v.id}/document?format=${f}`} download>
                      {f.toUpperCase()}
                    </a>
                  ))}
                </TableCell>
              </TableRow>
            ))}
          </TableBody>
        </Table>
      )}
      {may && <VolumeForm key={volumes.data.length} />}
    </>
  )
}

type Values = { kind: Schemas['NewVolume']['kind']; of: string; span: string; layout: string }

/** The month before this one by name, in a zone. */
function monthBefore(zone: string): string {
  const [y = '', m = ''] = new Intl.DateTimeFormat('sv-SE', { timeZone: zone, year: 'numeric', month: '2-digit' }).format(new Date()).split('-')
  const at = Number(y) * 12 + Number(m) - 2
  return `${Math.floor(at / 12)}-${String((at % 12) + 1).padStart(2, '0')}`
}

function VolumeForm() {
  const { home } = useZone()
  const customers = (useParties('customer').data ?? []).filter((p) => !p.retired)
  const contracts = (useParties('contract').data ?? []).filter((p) => !p.retired)
  const fresh: Values = { kind: 'all', of: '', span: monthBefore(home), layout: '' }
  const form = useForm<Values>({ defaultValues: fresh })
  const kept = useKept(form, fresh, 0, { draft: 'volumes/new' })
  const kind = form.watch('kind')
  const list = kind === 'customer' ? customers : contracts
  const make = useChange({
    mutationFn: (v: Values) => ask(api.POST('/api/v1/volumes', { body: { kind: v.kind, of: v.kind === 'all' ? undefined : v.of || list[0]?.id, span: v.span.trim(), layout: v.layout || undefined } })),
    again: ['volumes'],
    kept,
    onError: (e) => showFaults(e, form.setError, ''),
  })
  const err = form.formState.errors
  return (
    <form className="form" aria-label="Volume" onSubmit={(e) => void form.handleSubmit((v) => make.mutate(v))(e)}>
      <Typography variant="h2" sx={{ mt: 4 }}>
        Put one together
      </Typography>
      <KeptNote kept={kept} />
      <div className="side">
        <Controller
          control={form.control}
          name="kind"
          render={({ field }) => (
            <TextField select label="Reports of" {...field}>
              <MenuItem value="all">all agreements</MenuItem>
              <MenuItem value="customer">a customer</MenuItem>
              <MenuItem value="contract">a contract</MenuItem>
            </TextField>
          )}
        />
        {kind !== 'all' && (
          <Controller
            control={form.control}
            name="of"
            render={({ field }) => (
              <TextField select label={kind === 'customer' ? 'Which customer' : 'Which contract'} {...field} value={list.some((p) => p.id === field.value) ? field.value : (list[0]?.id ?? '')}>
                {list.map((p) => (
                  <MenuItem key={p.id} value={p.id}>
                    {p.spec.name}
                  </MenuItem>
                ))}
              </TextField>
            )}
          />
        )}
        <TextField label="For periods that end in" error={Boolean(err.span)} helperText={err.span?.message ?? 'A month, quarter or year: 2026-10, 2026-Q4, 2026'} {...form.register('span', { required: 'Say which' })} />
      </div>
      <Controller control={form.control} name="layout" render={({ field }) => <LayoutPick value={field.value} change={field.onChange} blank="that of its audience" error={err.layout?.message} />} />
      <FormEnd error={make.error} busy={make.isPending} save="Put it together" />
    </form>
  )
}
