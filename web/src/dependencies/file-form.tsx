import Button from '@mui/material/Button'
import Table from '@mui/material/Table'
import TableBody from '@mui/material/TableBody'
import TableCell from '@mui/material/TableCell'
import TableHead from '@mui/material/TableHead'
import TableRow from '@mui/material/TableRow'
import { useState } from 'react'
import { useChange } from '../api/changes'
import { api, ask } from '../api/client'
import { counted } from '../parts/counted'
import { FilePick } from '../parts/file-pick'
import { Trouble } from '../parts/trouble'

type File_ = { name: string; text: string; format: 'csv' | 'yaml' }

/** What needs what as files: taken out, and in after a look at what would change. */
export default function FileForm({ may, done }: { may: boolean; done: () => void }) {
  const [file, setFile] = useState<File_>()
  const run = useChange({
    mutationFn: ({ f, preview }: { f: File_; preview: boolean }) => ask(api.POST('/api/v1/dependencies/import', { body: { format: f.format, text: f.text, preview } })),
    again: (v) => (v.done ? 'all' : undefined),
  })
  const v = run.data
  return (
    <section aria-label="Files" className="files" data-files>
      <p className="sub">
        All of it as <a href="/api/v1/dependencies/file?format=csv">CSV</a> or <a href="/api/v1/dependencies/file?format=yaml">YAML</a>. {may && 'A file says of each service that it names all that it needs; services that it does not name stay as they are.'}
      </p>
      {may && (
        <FilePick
          label="Choose a CSV or YAML file"
          accept=".csv,.yaml,.yml,text/csv,application/yaml"
          taken={({ name, text }) => {
            const f: File_ = { name, text, format: /\.ya?ml$/i.test(name) ? 'yaml' : 'csv' }
            setFile(f)
            run.mutate({ f, preview: true })
          }}
        />
      )}
      <Trouble error={run.error} />
      {file && v && v.faults.length > 0 && (
        <div className="trouble" role="alert" data-file-faults={v.faults.length}>
          <b>{file.name} is not taken:</b>
          {v.faults.map((f) => (
            <div key={f.where + f.fault}>
              {f.where}: {f.fault}
            </div>
          ))}
        </div>
      )}
      {file && v && v.faults.length === 0 && (
        <>
          <p role="status" data-file={v.done ? 'done' : 'preview'}>
            {v.done ? `${counted(v.items.length, 'service was', 'services were')} changed by ${file.name}.` : v.items.length ? `${file.name} would change ${counted(v.items.length, 'service')}; ${v.same} ${v.same === 1 ? 'stays' : 'stay'} as it is.` : `${file.name} changes nothing.`}
          </p>
          {v.items.length > 0 && (
            <Table sx={{ maxWidth: 900 }} tabIndex={0} aria-label="What changes">
              <TableHead>
                <TableRow>
                  <TableCell>Service</TableCell>
                  <TableCell>Needs now</TableCell>
                  <TableCell>Then</TableCell>
                </TableRow>
              </TableHead>
              <TableBody>
                {v.items.map((i) => (
                  <TableRow key={i.service} data-changes={i.service}>
                    <TableCell>{i.name}</TableCell>
                    <TableCell>{i.before}</TableCell>
                    <TableCell>{i.after}</TableCell>
                  </TableRow>
                ))}
              </TableBody>
            </Table>
          )}
          {!v.done && v.items.length > 0 && (
            <Button variant="contained" sx={{ mt: 1.5 }} disabled={run.isPending} onClick={() => run.mutate({ f: file, preview: false })}>
              Change {counted(v.items.length, 'service')}
            </Button>
          )}
        </>
      )}{' '}
      <Button variant="text" sx={{ mt: v ? 1.5 : 0 }} onClick={done}>
        Close
      </Button>
    </section>
  )
}
