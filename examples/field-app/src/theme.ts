import { type CSSVariablesResolver, createTheme, type MantineColorsTuple } from '@mantine/core';

const comb: MantineColorsTuple = [
  '#fff6e6',
  '#fbe9cc',
  '#f4d19b',
  '#edb866',
  '#e7a23a',
  '#c97e14',
  '#a8640c',
  '#8a4b08',
  '#6f3b06',
  '#532b03',
];

/** Large targets for gloved hands, warm colours. */
export const theme = createTheme({
  colors: { comb },
  primaryColor: 'comb',
  primaryShade: { light: 7, dark: 6 },
  defaultRadius: 'md',
  fontFamily: 'system-ui, sans-serif',
  autoContrast: true,
  components: {
    Button: { defaultProps: { size: 'md' } },
    TextInput: { defaultProps: { size: 'md' } },
    Textarea: { defaultProps: { size: 'md' } },
    NumberInput: { defaultProps: { size: 'md' } },
    Select: { defaultProps: { size: 'md', allowDeselect: false } },
    ActionIcon: { defaultProps: { size: 'xl', variant: 'subtle' } },
  },
});

/** Greys and tints that can be read outdoors: each text has a contrast of 4.5 at least. */
export const readable: CSSVariablesResolver = () => ({
  variables: {},
  light: {
    '--mantine-color-dimmed': 'var(--mantine-color-gray-7)',
    '--mantine-color-placeholder': 'var(--mantine-color-gray-7)',
    '--mantine-color-gray-outline': 'var(--mantine-color-gray-7)',
    '--mantine-color-gray-light-color': 'var(--mantine-color-gray-8)',
    '--mantine-color-teal-light-color': '#05563f',
    '--mantine-color-red-light-color': 'var(--mantine-color-red-9)',
    '--mantine-color-error': 'var(--mantine-color-red-9)',
  },
  dark: {
    '--mantine-color-dimmed': 'var(--mantine-color-dark-1)',
    '--mantine-color-placeholder': 'var(--mantine-color-dark-1)',
    '--mantine-color-gray-outline': 'var(--mantine-color-gray-4)',
    '--mantine-color-gray-light-color': 'var(--mantine-color-gray-3)',
    '--mantine-color-teal-light-color': 'var(--mantine-color-teal-2)',
    '--mantine-color-red-light-color': 'var(--mantine-color-red-2)',
    '--mantine-color-error': 'var(--mantine-color-red-3)',
  },
});
