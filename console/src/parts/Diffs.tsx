import styled from 'styled-components';
import type { Schemas } from '../data/client';
import { color, font, radius, space } from '../theme/tokens';

const Part = styled.section`margin-top: ${space(7)}; h2 { font-size: 20px; margin-bottom: ${space(3)}; overflow-wrap: anywhere; }`;

const Sheet = styled.pre`
  margin: 0; padding: ${space(3)} 0; border: 1px solid ${color.line}; border-radius: ${radius}; background: ${color.raised}; overflow-x: auto; font: 15px/1.5 ${font.mono};
  span { display: block; padding: 0 ${space(4)}; white-space: pre; border-left: 4px solid transparent; }
  .new { font-weight: 700; border-left-color: ${color.agreed}; } .old { color: ${color.soft}; text-decoration: line-through; border-left-color: ${color.oxide}; } .at { color: ${color.soft}; }
`;

/** Each file an installation changes, as the lines that go and come. */
export function Diffs({ files }: { files: Schemas['Installation']['files'] }) {
  return files.map((f) => (
    <Part key={f.path} aria-label={`Change of ${f.path}`}>
      <h2>{f.path}</h2>
      <Sheet tabIndex={0}>{f.diff.split('\n').slice(2).filter((l) => l !== '').map((l, i) => <span key={i} className={l.startsWith('+') ? 'new' : l.startsWith('-') ? 'old' : l.startsWith('@') ? 'at' : ''}>{l}</span>)}</Sheet>
    </Part>
  ));
}
