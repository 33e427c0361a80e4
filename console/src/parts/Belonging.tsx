import styled from 'styled-components';
import { api, type Schemas } from '../data/client';
import { color, font, radius, space } from '../theme/tokens';
import { Pick } from './Controls';

const Tag = styled.span`
  display: inline-block; font: 13px/20px ${font.text}; color: ${color.soft}; border: 1px solid ${color.line}; border-radius: ${radius}; padding: 0 ${space(2)}; margin-right: ${space(1)}; white-space: nowrap;
`;

/** What a host belongs to. */
export function Belongs({ to }: { to: Schemas['Belongs'] | undefined }) {
  if (!to) return null;
  return (
    <>
      {to.group && <Tag>group {to.group}</Tag>}
      {to.owner && <Tag>of {to.owner}</Tag>}
      {to.tags?.map((t) => <Tag key={t}>{t}</Tag>)}
    </>
  );
}

/** The part of a query that asks for what belongs somewhere, as the address of the page has it. */
export const belonging = (p: URLSearchParams) => Object.fromEntries((['group', 'owner', 'tag'] as const).flatMap((k) => (p.get(k) ? [[k, [p.get(k) ?? '']]] : []))) as { group?: string[]; owner?: string[]; tag?: string[] };

/** Narrows a list to what belongs somewhere; what the estate does not have is not asked for. */
export function BelongsPicks({ params, set }: { params: URLSearchParams; set: (key: string, value: string) => void }) {
  const { data: e } = api.useQuery('get', '/estate', {}, { retry: false });
  if (!e) return null;
  return (
    <>
      {([['group', 'Group', e.groups], ['owner', 'Owner', e.owners], ['tag', 'Tag', e.tags]] as const).map(([key, label, names]) => names.length > 0 && (
        <Pick key={key} label={label} value={params.get(key) ?? 'all'} options={[['all', 'all'], ...names.map((n): [string, string] => [n, n])]} onChange={(v) => set(key, v)} />
      ))}
    </>
  );
}
