import styled from 'styled-components';
import type { Schemas } from '../data/client';
import { color, font, space } from '../theme/tokens';

export const StepList = styled.ol`
  list-style: none; margin: 0; padding: 0; border-left: 3px solid ${color.line};
  li { display: grid; grid-template-columns: 28px 130px minmax(0, 1fr); gap: ${space(3)}; padding: ${space(2)} 0 ${space(2)} ${space(3)}; }
  li > strong { font-family: ${font.sign}; } p { white-space: pre-line; overflow-wrap: anywhere; } small { color: ${color.soft}; font-size: 14px; }
  .failed, .failed p { color: ${color.oxide}; font-weight: 600; }
  code { font: 15px ${font.mono}; overflow-wrap: anywhere; }
`;

const marks = { doing: '…', done: '✓', failed: '✗' } as const;
const words = { doing: 'going on', done: 'done', failed: 'failed' } as const;

/** The steps of an order or an installation, as they come and kept. */
export function Steps({ steps }: { steps: Schemas['OrderStep'][] }) {
  return (
    <StepList>
      {steps.map((s, i) => (
        <li key={i} className={s.outcome}>
          <span role="img" aria-label={words[s.outcome]}>{marks[s.outcome]}</span>
          <strong>{s.step}</strong>
          <div><p>{s.words}</p><small>{s.at.slice(11, 19)} UTC</small></div>
        </li>
      ))}
    </StepList>
  );
}
