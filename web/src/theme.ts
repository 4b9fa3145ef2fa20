import type {} from '@mui/x-date-pickers/themeAugmentation'
import { createTheme } from '@mui/material/styles'
import colours from './colours.json'

const sans = "'Source Sans 3 Variable', 'Source Sans 3', sans-serif"
export const serif = "'Source Serif 4 Variable', 'Source Serif 4', serif"

type Scheme = keyof typeof colours

const palette = (of: Scheme) => {
  const c = colours[of]
  return {
    palette: {
      primary: { main: c.primary, contrastText: c['on-primary'] },
      error: { main: c.error },
      background: { default: c.background, paper: c.paper },
      text: { primary: c.text, secondary: c.secondary },
      divider: c.divider,
    },
  }
}

/** The colours of classes and states as CSS variables, used for nothing else. */
const variables = (of: Scheme) => Object.fromEntries(Object.entries(colours[of]).map(([name, colour]) => [`--${name}`, colour]))

/** What is said in a word has the colour of what it says, and is never told by its colour alone. */
const words = Object.fromEntries(
  Object.entries({
    '.word-up, .word-met, .word-on-track': 'var(--up)',
    '.word-degraded, .word-at-risk': 'var(--degraded-ink)',
    '.word-down, .word-missed': 'var(--down)',
    '.word-unmeasured, .word-insufficient, .word-not-applicable': 'var(--unmeasured-word)',
    '.word-maintenance': 'var(--maintenance)',
    '.word-upstream, .word-tolerated': 'var(--upstream)',
    '.word-excused': 'var(--excused)',
    '.word-outside': 'var(--mui-palette-text-secondary)',
  }).map(([of, color]) => [of, { color: `${color} !important`, fontWeight: '600 !important' }]),
)

/** All colours are in colours.json, which the PDF reads too. */
export const theme = createTheme({
  cssVariables: { colorSchemeSelector: 'data-scheme' },
  colorSchemes: { light: palette('light'), dark: palette('dark') },
  shape: { borderRadius: 2 },
  typography: {
    fontFamily: sans,
    fontSize: 14,
    h1: { fontFamily: serif, fontWeight: 600, fontSize: '1.5rem', lineHeight: 1.25, letterSpacing: '-0.005em' },
    h2: { fontFamily: serif, fontWeight: 600, fontSize: '1.1rem', lineHeight: 1.3 },
    h3: { fontFamily: sans, fontWeight: 600, fontSize: '0.95rem' },
    body1: { fontSize: '0.95rem' },
    body2: { fontSize: '0.85rem' },
    button: { textTransform: 'none', fontWeight: 600 },
  },
  components: {
    MuiCssBaseline: { styleOverrides: { ':root': variables('light'), "[data-scheme='dark']": variables('dark'), ...words } },
    MuiButtonBase: { defaultProps: { disableRipple: true } },
    MuiButton: {
      defaultProps: { disableElevation: true, variant: 'outlined', size: 'small' },
      styleOverrides: {
        root: { borderRadius: 2, paddingInline: 14, minHeight: 32, '&.Mui-focusVisible': { outline: '2px solid var(--mui-palette-primary-main)', outlineOffset: 2 } },
      },
    },
    MuiTextField: { defaultProps: { size: 'small', fullWidth: true } },
    MuiOutlinedInput: {
      styleOverrides: {
        root: { background: 'var(--mui-palette-background-paper)', borderRadius: 2 },
        notchedOutline: { borderColor: 'var(--mui-palette-divider)' },
      },
    },
    MuiPickersOutlinedInput: {
      styleOverrides: {
        root: { background: 'var(--mui-palette-background-paper)', borderRadius: 2 },
        notchedOutline: { borderColor: 'var(--mui-palette-divider)' },
      },
    },
    MuiFormHelperText: { styleOverrides: { root: { marginLeft: 0 } } },
    MuiPaper: { styleOverrides: { root: { backgroundImage: 'none' } } },
    MuiDialog: { styleOverrides: { paper: { borderRadius: 3, border: '1px solid var(--mui-palette-divider)', boxShadow: '0 8px 40px rgb(0 0 0 / .18)' } } },
    MuiTooltip: { defaultProps: { arrow: false, enterDelay: 300 }, styleOverrides: { tooltip: { fontSize: '0.8rem', background: 'var(--mui-palette-text-primary)', color: 'var(--mui-palette-background-default)' } } },
    MuiTabs: { styleOverrides: { root: { minHeight: 0, paddingTop: 14 }, indicator: { height: 2 } } },
    MuiTab: {
      styleOverrides: {
        root: { minHeight: 0, minWidth: 0, padding: '8px 0', marginRight: 20, fontSize: '0.95rem', fontWeight: 400, letterSpacing: 0, color: 'var(--mui-palette-text-primary)', '&.Mui-selected': { fontWeight: 600, color: 'var(--mui-palette-text-primary)' } },
      },
    },
    MuiTableSortLabel: { styleOverrides: { root: { font: 'inherit', '&.Mui-active': { fontWeight: 600, color: 'var(--mui-palette-text-primary)' } }, icon: { fontSize: '0.9rem', marginInline: 2 } } },
    MuiAlert: {
      defaultProps: { icon: false },
      styleOverrides: {
        root: { borderRadius: 0, padding: '2px 0 2px 12px', borderLeft: '3px solid', background: 'none', color: 'var(--mui-palette-text-primary)', fontSize: '0.95rem', lineHeight: 1.4 },
        message: { padding: '4px 0' },
        colorError: { borderLeftColor: 'var(--down)' },
        colorInfo: { borderLeftColor: 'var(--mui-palette-primary-main)' },
      },
    },
    MuiTable: { styleOverrides: { root: { captionSide: 'top', '& caption': { padding: '0 0 6px' } } } },
    MuiTableCell: {
      styleOverrides: {
        root: ({ ownerState }) => ({
          padding: ownerState.size === 'small' ? '5px 12px 5px 0' : '8px 12px 8px 0',
          borderBottomColor: 'var(--mui-palette-divider)',
          verticalAlign: 'top',
          fontSize: ownerState.size === 'small' ? '0.85rem' : 'inherit',
          lineHeight: 'inherit',
          letterSpacing: 'inherit',
        }),
        head: { padding: '0 12px 6px 0', fontWeight: 400, fontSize: '0.8rem', lineHeight: 'inherit', color: 'var(--mui-palette-text-secondary)', whiteSpace: 'nowrap' },
      },
    },
    MuiLink: { defaultProps: { underline: 'hover' } },
  },
})
