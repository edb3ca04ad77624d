import { createTheme, type MantineColorsTuple } from '@mantine/core';

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
