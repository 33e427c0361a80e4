import styled from 'styled-components';
import type { Trial } from '../data/mandates';
import { space } from '../theme/tokens';
import { StepList } from './Steps';

const Part = styled.section`margin-top: ${space(7)}; h2 { font-size: 20px; margin-bottom: ${space(3)}; }`;

/** What a pre-flight tried, and what is in the way. */
export function Preflight({ items }: { items: Trial[] }) {
  return (
    <Part aria-label="Pre-flight">
      <h2>{items.some((t) => t.code) ? 'Pre-flight: something is in the way; the CA was not asked' : 'Pre-flight: nothing is in the way'}</h2>
      <StepList>
        {items.map((t, i) => (
          <li key={i} className={t.code ? 'failed' : ''}>
            <span role="img" aria-label={t.code ? 'in the way' : 'well'}>{t.code ? '✗' : '✓'}</span>
            <strong>{t.step}</strong>
            <div>
              <small>{t.name}{t.ca && ` · ${t.ca}`}</small>
              <p>{t.code && `${t.code}: `}{t.seen}</p>
              {t.code && <><code>{t.spot}</code><p>→ {t.remedy}</p></>}
            </div>
          </li>
        ))}
      </StepList>
    </Part>
  );
}
