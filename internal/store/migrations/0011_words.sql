-- +goose Up
-- Names follow the words of the product: what is encrypted lies in the safe, a
-- secret somebody entered is a credential, and an installation is seen at
-- bindings.
alter table vault_marks rename to safe_marks;
alter table secrets rename to credentials;
alter table credentials rename column sealed to encrypted;
alter table accounts rename column sealed to encrypted;
alter table orders rename column sealed to encrypted;
alter table installations rename column doors to bindings;

-- The estate file names a credential, no longer a secret. Applied files are
-- parsed again at every start, so those that are kept follow.
update declarations set content = convert_to(regexp_replace(convert_from(content, 'UTF8'), '\msecret( *:)', 'credential\1', 'g'), 'UTF8')
    where convert_from(content, 'UTF8') ~ '\msecret *:';
update mandates set spec = jsonb_set(spec #- '{proof,tsig,secret}', '{proof,tsig,credential}', spec #> '{proof,tsig,secret}')
    where spec #> '{proof,tsig,secret}' is not null;
update orders set spec = jsonb_set(spec #- '{proof,tsig,secret}', '{proof,tsig,credential}', spec #> '{proof,tsig,secret}')
    where spec #> '{proof,tsig,secret}' is not null;

-- +goose Down
update orders set spec = jsonb_set(spec #- '{proof,tsig,credential}', '{proof,tsig,secret}', spec #> '{proof,tsig,credential}')
    where spec #> '{proof,tsig,credential}' is not null;
update mandates set spec = jsonb_set(spec #- '{proof,tsig,credential}', '{proof,tsig,secret}', spec #> '{proof,tsig,credential}')
    where spec #> '{proof,tsig,credential}' is not null;
update declarations set content = convert_to(regexp_replace(convert_from(content, 'UTF8'), '\mcredential( *:)', 'secret\1', 'g'), 'UTF8')
    where convert_from(content, 'UTF8') ~ '\mcredential *:';
alter table installations rename column bindings to doors;
alter table orders rename column encrypted to sealed;
alter table accounts rename column encrypted to sealed;
alter table credentials rename column encrypted to sealed;
alter table credentials rename to secrets;
alter table safe_marks rename to vault_marks;
