import Alert from '@mui/material/Alert'
import { decimal } from '../parts/decimal'
import { useModelled } from './queries'

/** Says where a promise is more than follows from what is promised of what its service needs. */
export function Beyond({ service, target }: { service: string; target: string }) {
  const model = useModelled(service).data
  const supports = model?.targets?.percent
  if (!supports || !(Number(decimal(target)) > Number(supports))) return null
  return (
    <Alert severity="warning" data-beyond>
      What is promised of what the service needs supports {supports} % at most: {model.leaves.filter((l) => l.target_percent && !l.itself).map((l) => `${l.name} ${l.target_percent} %`).join(', ')}.
    </Alert>
  )
}
