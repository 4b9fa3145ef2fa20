import Alert from '@mui/material/Alert'
import Snackbar from '@mui/material/Snackbar'
import { useEffect, useRef, useState } from 'react'
import { Link } from 'react-router'
import type { Schemas } from '../api/client'
import { useKeep } from '../time/span'
import { mayRing, ring } from './sound'

type Item = Schemas['InboxItem']

/** So many are named; the inbox has them all. */
const most = 3

/** Says what arrives in the inbox while a page is open, with a sound where this browser is asked to make one. */
export default function Ring({ items }: { items: Item[] }) {
  const seen = useRef<Set<number>>(undefined)
  const [news, setNews] = useState<Item[]>([])
  const keep = useKeep()
  useEffect(() => {
    const before = seen.current
    seen.current = new Set(items.map((i) => i.id))
    const fresh = before ? items.filter((i) => !i.read && !before.has(i.id)) : []
    if (fresh.length === 0) return
    setNews((old) => [...fresh, ...old])
    const loud = fresh.filter((i) => mayRing(i.severity)).map((i) => i.id)
    if (loud.length > 0) void ring(Math.max(...loud), fresh.some((i) => i.severity === 'critical'))
  }, [items])
  if (news.length === 0) return null
  return (
    <Snackbar open anchorOrigin={{ vertical: 'bottom', horizontal: 'right' }}>
      <Alert severity={news.some((i) => i.severity === 'critical') ? 'error' : 'info'} variant="outlined" icon={false} onClose={() => setNews([])} data-news={news.length} sx={{ bgcolor: 'background.paper', maxWidth: 420 }}>
        {news.slice(0, most).map((i) => (
          <div key={i.id}>
            {i.incident ? (
              <Link to={keep(`/incidents/${i.incident}`)} onClick={() => setNews([])}>
                {i.subject}
              </Link>
            ) : (
              i.subject
            )}
          </div>
        ))}
        {news.length > most && (
          <Link to="/you/inbox" onClick={() => setNews([])}>
            and {news.length - most} more
          </Link>
        )}
      </Alert>
    </Snackbar>
  )
}
