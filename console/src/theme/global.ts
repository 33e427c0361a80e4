import { createGlobalStyle } from 'styled-components';
import { color, dark, font, light, space, variables } from './tokens';

export const GlobalStyle = createGlobalStyle`
  :root { color-scheme: light; ${variables(light)} }
  @media (prefers-color-scheme: dark) { :root:not([data-scheme='light']) { color-scheme: dark; ${variables(dark)} } }
  :root[data-scheme='dark'] { color-scheme: dark; ${variables(dark)} }
  *, *::before, *::after { box-sizing: border-box; }
  body { margin: 0; background: ${color.ground}; color: ${color.ink}; font: 16px/1.5 ${font.text}; }
  h1, h2, h3 { font-family: ${font.sign}; font-stretch: 110%; line-height: 1.2; margin: 0; }
  h1 { font-size: 28px; font-weight: 700; }
  h2 { font-size: 17px; font-weight: 700; margin-bottom: ${space(3)}; }
  p { overflow-wrap: anywhere; margin: 0; }
  a { color: ${color.link}; text-underline-offset: 2px; }
  code, .mono { font-family: ${font.mono}; font-size: 0.9em; overflow-wrap: anywhere; }
  :focus-visible, [data-focus-visible] { outline: 3px solid ${color.brassFill}; outline-offset: 2px; }
  @media (prefers-reduced-motion: reduce) { *, *::before, *::after { transition: none !important; animation: none !important; } }
  @media print { nav, header form, button { display: none !important; } body { background: none; } }
`;
