import Dialog from '@mui/material/Dialog'
import DialogContent from '@mui/material/DialogContent'
import DialogTitle from '@mui/material/DialogTitle'
import Table from '@mui/material/Table'
import TableBody from '@mui/material/TableBody'
import TableCell from '@mui/material/TableCell'
import TableRow from '@mui/material/TableRow'

const keys: [string, string][] = [
  ['/ or Ctrl K', 'find anything'],
  ['1 3 2 5 6 9 7 8 0', 'Standing, Incidents, Services, Calendar, Agreements, Close, Reports, Notices, Set-up'],
  ['[ and ]', 'on the band: the time before, the time after'],
  ['+ and −', 'closer, down to ten minutes; wider, up to a year'],
  ['.', 'the present month'],
  ['← →', 'on a strip: the change before, the change after'],
  ['↑ ↓', 'on a strip: the one above, the one below'],
  ['Home End', 'on a strip: its beginning, its end'],
  ['Page ↑ ↓', 'on a strip: a tenth later, a tenth earlier'],
  ['A', 'on an incident: acknowledge it'],
  ['N', 'on an incident: the next one that is open'],
  ['G', 'on an incident: give it to somebody'],
  ['W', 'on an incident: write a note'],
  ['?', 'this list'],
  ['Esc', 'close what is open'],
]

/** The keys and what they do. */
export function Keys({ open, onClose }: { open: boolean; onClose: () => void }) {
  return (
    <Dialog open={open} onClose={onClose}>
      <DialogTitle>Keys</DialogTitle>
      {/* On a phone it scrolls, by keys too. */}
      <DialogContent tabIndex={0}>
        <Table>
          <TableBody>
            {keys.map(([key, what]) => (
              <TableRow key={key}>
                <TableCell sx={{ whiteSpace: 'nowrap', fontWeight: 600 }}>{key}</TableCell>
                <TableCell>{what}</TableCell>
              </TableRow>
            ))}
          </TableBody>
        </Table>
      </DialogContent>
    </Dialog>
  )
}
