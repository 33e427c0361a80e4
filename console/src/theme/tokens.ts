/**
 * The only place with colours, sizes and fonts. Colours are CSS variables, so
 * that light and dark share every component.
 */
export const light = {
  ground: '#f6f0e1', raised: '#fffaf0', ink: '#1d2430', soft: '#5a6170', line: '#d8cdb4', cobalt: '#1b3a8f', link: '#1b3a8f',
  cream: '#fdf6e3', oxide: '#a8321e', brass: '#8a6200', brassFill: '#e0a92e', moss: '#2f6b3a', sunk: '#efe7d3', agreed: '#1b3a8f',
};

export const dark: typeof light = {
  ground: '#12161f', raised: '#1a2030', ink: '#f1e9d6', soft: '#a9b0bf', line: '#343c4f', cobalt: '#1b3a8f', link: '#9db7ff',
  cream: '#fdf6e3', oxide: '#ff8a73', brass: '#e6b84a', brassFill: '#7a5a10', moss: '#8fd19e', sunk: '#151a26', agreed: '#9db7ff',
};

type Name = keyof typeof light;

const names = Object.keys(light) as Name[];

/** A colour by its role, as a CSS value. */
export const color = Object.fromEntries(names.map((n) => [n, `var(--${n})`])) as Record<Name, string>;

/** The variables of one scheme, as CSS declarations. */
export const variables = (scheme: typeof light) => names.map((n) => `--${n}: ${scheme[n]};`).join(' ');

export const font = {
  sign: "'Archivo Variable', system-ui, sans-serif",
  text: "'Atkinson Hyperlegible Next Variable', system-ui, sans-serif",
  mono: "'Atkinson Hyperlegible Mono Variable', ui-monospace, monospace",
};

/** Spacing in steps of 4 px. */
export const space = (n: number) => `${n * 4}px`;

export const radius = '3px';

/** Below this width everything stands in one column. */
export const narrow = '@media (max-width: 760px)';
