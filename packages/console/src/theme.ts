/** The look: paper and ink, orchard colours. */
import { createTheme, type CSSVariablesResolver, type MantineColorsTuple } from '@mantine/core';

const viridian: MantineColorsTuple = [
  '#eaf5f2',
  '#d3e8e3',
  '#a6d2c8',
  '#76baad',
  '#4fa596',
  '#35917f',
  '#28857a',
  '#1f7a6d',
  '#176a5e',
  '#0d574c',
];
const persimmon: MantineColorsTuple = [
  '#fdeee8',
  '#f8d9cd',
  '#f0b29b',
  '#e88966',
  '#e06a3f',
  '#d9532c',
  '#c4461f',
  '#b03c18',
  '#9a3313',
  '#7f280d',
];

/** Series of charts, in their order; lighter in the dark scheme. */
export const SERIES = {
  viridian: 'var(--series-viridian)',
  persimmon: 'var(--series-persimmon)',
  plum: 'var(--series-plum)',
  honey: 'var(--series-honey)',
  slate: 'var(--series-slate)',
} as const;
const series = (viridian: string, persimmon: string, plum: string, honey: string, slate: string) => ({
  '--series-viridian': viridian,
  '--series-persimmon': persimmon,
  '--series-plum': plum,
  '--series-honey': honey,
  '--series-slate': slate,
});

export const theme = createTheme({
  colors: { viridian, persimmon },
  primaryColor: 'viridian',
  primaryShade: 7,
  autoContrast: true,
  fontFamily: "'Figtree Variable', system-ui, sans-serif",
  fontFamilyMonospace: "'JetBrains Mono Variable', ui-monospace, monospace",
  headings: {
    fontFamily: "'Fraunces Variable', Georgia, serif",
    fontWeight: '600',
    sizes: { h1: { fontSize: '1.6rem' }, h2: { fontSize: '1.2rem' }, h3: { fontSize: '1rem' } },
  },
  defaultRadius: 'sm',
  respectReducedMotion: true,
  components: {
    Drawer: { defaultProps: { closeButtonProps: { 'aria-label': 'Close' }, overlayProps: { backgroundOpacity: 0.2 } } },
    Modal: { defaultProps: { closeButtonProps: { 'aria-label': 'Close' } } },
  },
});

export const variables: CSSVariablesResolver = () => ({
  variables: {},
  light: {
    ...series('#1f7a6d', '#d9532c', '#6b2d5c', '#d99e2b', '#3d5a80'),
    '--mantine-color-body': '#fbf8f2',
    '--mantine-color-text': '#1d2a2b',
    '--mantine-color-dimmed': '#55605f',
    '--mantine-color-anchor': '#13604f',
    '--mantine-color-gray-0': '#f6f1e7',
    '--mantine-color-gray-1': '#efe9de',
    '--mantine-color-gray-2': '#e6dfd1',
    '--rule': '#ddd5c5',
    '--raised': '#fffdf9',
    '--live-bar': '#f6e3cf',
    '--care': '#a83a16',
    '--mantine-color-error': '#a83a16',
  },
  dark: {
    ...series('#35917f', '#e06a3f', '#bb7fac', '#d99e2b', '#7f9cc2'),
    '--mantine-color-body': '#16201f',
    '--mantine-color-text': '#ece6d8',
    '--mantine-color-dimmed': '#a9b3ac',
    '--mantine-color-anchor': '#86c6b9',
    '--rule': '#33403e',
    '--raised': '#1c2827',
    '--live-bar': '#47301d',
    '--care': '#f0997b',
    '--mantine-color-error': '#f0997b',
  },
});
