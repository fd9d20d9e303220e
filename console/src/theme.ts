import { definePreset } from '@primeuix/themes'
import Aura from '@primeuix/themes/aura'

/** Deep water for what can be acted on: dark enough that white text on it is readable (7:1). */
const water = {
  50: '#eef7f8',
  100: '#d3e9ec',
  200: '#a9d3d9',
  300: '#75b5bf',
  400: '#4493a0',
  500: '#1f6f7d',
  600: '#185c68',
  700: '#154b56',
  800: '#123c46',
  900: '#0f2f37',
  950: '#091f25',
}

/** The theme of the console: square edges, deep water, a lamp's amber for what waits. */
export const Harbour = definePreset(Aura, {
  primitive: {
    borderRadius: { none: '0', xs: '1px', sm: '2px', md: '3px', lg: '4px', xl: '6px' },
  },
  components: {
    button: {
      colorScheme: {
        // The preset's red is too bright for white letters (3.8:1).
        light: {
          root: {
            danger: {
              background: '#a3231f',
              hoverBackground: '#8c1d1a',
              activeBackground: '#741714',
              borderColor: '#a3231f',
              hoverBorderColor: '#8c1d1a',
              activeBorderColor: '#741714',
            },
          },
        },
      },
    },
    toast: {
      colorScheme: {
        // The preset's green on pale green is too faint to read (3.2:1).
        light: {
          success: { color: '{green.800}', detailColor: '{green.900}' },
          error: { color: '{red.800}', detailColor: '{red.900}' },
        },
      },
    },
  },
  semantic: {
    primary: water,
    colorScheme: {
      light: {
        primary: {
          color: '{primary.600}',
          contrastColor: '#ffffff',
          hoverColor: '{primary.700}',
          activeColor: '{primary.800}',
        },
      },
      dark: {
        primary: {
          color: '{primary.300}',
          contrastColor: '{primary.950}',
          hoverColor: '{primary.200}',
          activeColor: '{primary.100}',
        },
      },
    },
  },
})
