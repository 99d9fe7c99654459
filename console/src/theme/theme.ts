import {
  type CSSVariablesResolver,
  createTheme,
  defaultVariantColorsResolver,
  type MantineColorsTuple,
} from '@mantine/core';

// Mantine's own shades are of use only where it picks one by number; what is shown follows the tokens.
const verdigris: MantineColorsTuple = [
  '#eef7f5',
  '#d5ece7',
  '#a9d9d0',
  '#79c4b8',
  '#4fb0a2',
  '#2c9a8d',
  '#0f8076',
  '#0c736a',
  '#08665e',
  '#054f49',
];
const carmine: MantineColorsTuple = [
  '#fdf0f3',
  '#fbe1e7',
  '#f4b6c5',
  '#ec88a0',
  '#e25c7e',
  '#d53761',
  '#c41a4e',
  '#b31546',
  '#a30f3d',
  '#7d0a2e',
];

export const theme = createTheme({
  primaryColor: 'verdigris',
  colors: { verdigris, carmine },
  primaryShade: { light: 6, dark: 5 },
  defaultRadius: 6,
  fontFamily: 'var(--rv-font)',
  fontFamilyMonospace: 'var(--rv-font-code)',
  fontSizes: { xs: '12px', sm: '13px', md: '14px', lg: '16px', xl: '20px' },
  headings: { fontFamily: 'var(--rv-font)' },
  focusRing: 'auto',
  respectReducedMotion: true,
  variantColorResolver: (input) =>
    input.variant === 'filled'
      ? {
          background: 'var(--rv-verdigris-fill)',
          hover: 'var(--rv-verdigris-fill)',
          color: 'var(--rv-on-verdigris)',
          border: '1px solid transparent',
        }
      : defaultVariantColorsResolver(input),
  components: {
    Button: { defaultProps: { size: 'sm' } },
    TextInput: { defaultProps: { size: 'sm' } },
    Select: { defaultProps: { size: 'sm', checkIconPosition: 'right' } },
    Modal: { defaultProps: { centered: true, radius: 10, transitionProps: { duration: 120 } } },
    Menu: { defaultProps: { radius: 10, shadow: 'none', transitionProps: { duration: 120 } } },
  },
});

const shared = {
  '--mantine-color-body': 'var(--rv-ground)',
  '--mantine-color-text': 'var(--rv-ink)',
  '--mantine-color-dimmed': 'var(--rv-ink-3)',
  '--mantine-color-anchor': 'var(--rv-verdigris)',
  '--mantine-color-default': 'var(--rv-raised)',
  '--mantine-color-default-hover': 'var(--rv-sunken)',
  '--mantine-color-default-color': 'var(--rv-ink)',
  '--mantine-color-default-border': 'var(--rv-line-strong)',
  '--mantine-color-placeholder': 'var(--rv-ink-3)',
  '--mantine-color-error': 'var(--rv-carmine)',
  '--mantine-color-verdigris-filled': 'var(--rv-verdigris-fill)',
  '--mantine-color-verdigris-filled-hover': 'var(--rv-verdigris)',
  '--mantine-color-verdigris-light': 'var(--rv-verdigris-wash)',
  '--mantine-color-verdigris-light-color': 'var(--rv-verdigris)',
  '--mantine-color-verdigris-outline': 'var(--rv-verdigris)',
  '--mantine-color-carmine-filled': 'var(--rv-carmine-fill)',
  '--mantine-color-carmine-filled-hover': 'var(--rv-carmine)',
  '--mantine-shadow-md': 'var(--rv-shadow)',
  '--mantine-shadow-xl': 'var(--rv-shadow)',
};

/** Mantine's variables follow the tokens, which know light from dark. */
export const resolver: CSSVariablesResolver = () => ({ variables: shared, light: shared, dark: shared });
