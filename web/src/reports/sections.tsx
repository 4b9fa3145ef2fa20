import Table from '@mui/material/Table'
import TableBody from '@mui/material/TableBody'
import TableCell from '@mui/material/TableCell'
import TableHead from '@mui/material/TableHead'
import TableRow from '@mui/material/TableRow'
import Typography from '@mui/material/Typography'
import { Fragment } from 'react'
import type { Schemas } from '../api/client'

type Block = Schemas['Block']

/** The parts of a report that its layout asks for, as every form of it prints them. */
export function Sections({ of }: { of: Schemas['Section'][] }) {
  return of.map((s) => (
    <section key={s.key} data-section={s.key}>
      <Typography variant="h2" sx={{ mt: 3, mb: 1 }}>
        {s.title}
      </Typography>
      {s.blocks.map((b, i) => (
        <BlockOf key={i} of={b} title={s.title} />
      ))}
    </section>
  ))
}

function BlockOf({ of: b, title }: { of: Block; title: string }) {
  return (
    <>
      {(b.text ?? []).map((t) => (
        <p key={t} className={`kept-lines${b.soft ? ' sub' : ''}${b.list ? ' item' : ''}`}>
          {t}
        </p>
      ))}
      {b.columns && (
        <div className="sheet">
          {b.columns.map((c) => (
            <section key={c.caption} aria-label={c.caption}>
              {c.lines.map((l) => (
                <div key={l.name}>
                  <span>{l.name}</span>
                  <span>{l.text}</span>
                </div>
              ))}
            </section>
          ))}
        </div>
      )}
      {b.figure && <Figure of={b.figure} />}
      {b.table && <TableOf of={b.table} title={title} />}
    </>
  )
}

function Figure({ of: f }: { of: Schemas['Figure'] }) {
  return (
    <figure className="drawn">
      <svg viewBox={`0 0 ${f.width} ${f.height}`} role="img" aria-label={f.words}>
        {f.marks.map((m, i) => {
          const ink = `var(--${m.ink})`
          if (m.text)
            return (
              <text key={i} x={m.x} y={m.y} fill={ink} textAnchor={m.anchor}>
                {m.text}
              </text>
            )
          return <rect key={i} x={m.x} y={m.y} width={m.width} height={m.height} {...(m.hollow ? { fill: 'none', stroke: ink, strokeDasharray: m.dashed ? '3 3' : undefined } : { fill: ink })} />
        })}
      </svg>
      <figcaption className="sub">{f.caption}</figcaption>
    </figure>
  )
}

function TableOf({ of: t, title }: { of: Schemas['Table']; title: string }) {
  return (
    <Table tabIndex={0} aria-label={title}>
      <TableHead>
        <TableRow>
          {t.head.map((c) => (
            <TableCell key={c.title} align={c.right ? 'right' : 'left'}>
              {c.title}
            </TableCell>
          ))}
        </TableRow>
      </TableHead>
      <TableBody>
        {t.rows.map((r, i) => (
          <Fragment key={i}>
            <TableRow className={r.note ? 'noted' : undefined}>
              {r.cells.map((c, n) => (
                <TableCell key={n} align={t.head[n]?.right ? 'right' : 'left'}>
                  {c.text}
                </TableCell>
              ))}
            </TableRow>
            {r.note && (
              <TableRow>
                <TableCell colSpan={t.head.length} className="row-note">
                  {r.note}
                </TableCell>
              </TableRow>
            )}
          </Fragment>
        ))}
      </TableBody>
      </Table>
  )
}
