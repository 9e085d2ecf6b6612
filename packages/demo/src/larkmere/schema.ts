/**
 * Larkmere's business database as the association's own developers would have made it. Spoor does not own it and
 * nothing here knows of Spoor.
 */
export const businessSchema = `
create schema lettings; comment on schema lettings is 'Homes, tenants and tenancies';
create schema repairs; comment on schema repairs is 'Orders and their lines';
create schema contractors; comment on schema contractors is 'Firms and their rates';
create schema safety; comment on schema safety is 'Certificates and hazards';
create schema reference; comment on schema reference is 'Lists that other areas use';

create table reference.officer (
  id int primary key,
  full_name text not null,
  patch text,
  joined_on date not null,
  left_on date
);
comment on table reference.officer is 'People who work at Larkmere';

create table reference.rent_band (
  code text primary key,
  name text not null,
  weekly_figure numeric(8,2) not null check (weekly_figure > 0),
  in_force_from date not null
);
comment on column reference.rent_band.weekly_figure is 'Weekly rent of a home in this band, in pounds';

create table reference.job_code (
  code text primary key,
  description text not null,
  trade text not null,
  standard_price numeric(8,2) not null
);

create type lettings.tenancy_status as enum ('applied', 'active', 'notice given', 'ended');

create table lettings.home (
  id int primary key,
  address text not null,
  bedrooms smallint not null check (bedrooms between 0 and 9),
  floor_area numeric(6,1),
  rent_band text not null references reference.rent_band,
  epc_rating char(1),
  amenities text[] not null default '{}',
  key_safe_code text,
  settings jsonb not null default '{}',
  last_seen_by int references reference.officer
);
comment on column lettings.home.floor_area is 'In square metres';
comment on column lettings.home.settings is 'Door entry, heating controls and the like';

create table lettings.tenant (
  id int primary key,
  full_name text not null,
  date_of_birth date,
  phone text,
  email text,
  preferred_contact text
);

create table lettings.tenancy (
  id int primary key,
  home_id int not null references lettings.home,
  tenant_id int not null references lettings.tenant on delete cascade,
  weekly_rent numeric(8,2) not null check (weekly_rent >= 0),
  monthly_rent numeric(8,2) not null default 0,
  service_charge numeric(8,2) not null default 0,
  deposit numeric(8,2) not null default 0,
  status lettings.tenancy_status not null default 'active',
  start_on date not null,
  end_on date,
  review_date date,
  support_services text[] not null default '{}',
  officer_id int references reference.officer,
  balance numeric(10,2) not null default 0,
  arrears_status text not null default 'clear',
  notes text,
  updated_at timestamptz not null default now(),
  check (end_on is null or end_on >= start_on)
);
comment on column lettings.tenancy.balance is 'What the tenant owes; negative when in credit';

create table lettings.rent_account_entry (
  id bigint primary key,
  tenancy_id int not null references lettings.tenancy on delete cascade,
  posted_on date not null,
  kind text not null,
  amount numeric(8,2) not null,
  memo text
);

create table lettings.household_member (
  tenancy_id int not null references lettings.tenancy on delete cascade,
  place smallint not null,
  full_name text not null,
  born_on date,
  primary key (tenancy_id, place)
);

create table lettings."ViewingBooking" (
  "Id" int primary key,
  "HomeId" int not null references lettings.home,
  "ViewedAt" timestamptz,
  "Outcome" text
);

create table lettings.legacy_keys (
  home_id int,
  hook text,
  note text
);
comment on table lettings.legacy_keys is 'From the old key cupboard list; nobody knows which rows are right';

create table contractors.contractor (
  id int primary key,
  name text not null,
  bank_account text not null,
  account_holder text not null,
  insurance_expiry date,
  approved_trades text[] not null default '{}',
  status text not null default 'approved' check (status in ('approved', 'suspended', 'ended')),
  updated_at timestamptz not null default now()
);

create table contractors.contract_rate (
  id int primary key,
  contractor_id int not null references contractors.contractor on delete cascade,
  job_code text not null references reference.job_code,
  rate numeric(8,2) not null,
  valid_from date not null,
  valid_until date,
  note text
);

create table contractors.payment (
  id int primary key,
  contractor_id int not null references contractors.contractor,
  paid_on date not null,
  amount numeric(10,2) not null,
  to_account text not null
);
comment on column contractors.payment.to_account is 'The bank account the money went to, as it stood that day';

create table repairs.repair_order (
  id int primary key,
  home_id int not null references lettings.home,
  contractor_id int references contractors.contractor,
  priority text not null,
  status text not null,
  description text not null,
  raised_on date not null,
  raised_by int references reference.officer,
  promised_on date,
  completed_on date,
  effective_on date,
  approved_by int references reference.officer,
  approved_limit numeric(8,2),
  access_notes text
);

create table repairs.repair_line (
  id int primary key,
  order_id int not null references repairs.repair_order on delete cascade,
  job_code text not null references reference.job_code,
  quantity numeric(6,2) not null,
  unit_price numeric(8,2) not null,
  amount numeric(10,2) generated always as (quantity * unit_price) stored
);

create table safety.certificate (
  id int primary key,
  home_id int not null references lettings.home,
  kind text not null,
  inspected_on date not null,
  valid_until date not null,
  engineer text not null,
  result text not null,
  findings text,
  entered_on date not null
);

create table safety.hazard (
  id int primary key,
  home_id int not null references lettings.home,
  category text not null,
  status text not null,
  reported_on date not null,
  made_safe_on date
);

create index on lettings.tenancy (home_id);
create index on lettings.tenancy (tenant_id);
create index on lettings.rent_account_entry (tenancy_id);
create index on contractors.payment (contractor_id);
create index on contractors.contract_rate (contractor_id);
create index on repairs.repair_order (home_id);
create index on repairs.repair_line (order_id);
create index on safety.certificate (home_id);

create function lettings.keep_tenancy() returns trigger language plpgsql as $$
begin
  new.updated_at := now();
  new.monthly_rent := round(new.weekly_rent * 52 / 12, 2);
  new.arrears_status := case when new.balance <= 0 then 'clear' when new.balance < 4 * new.weekly_rent then 'watch' else 'action' end;
  return new;
end $$;
create trigger keep_tenancy before insert or update on lettings.tenancy for each row execute function lettings.keep_tenancy();

create function contractors.keep_contractor() returns trigger language plpgsql as $$
begin
  new.updated_at := now();
  return new;
end $$;
create trigger keep_contractor before insert or update on contractors.contractor for each row execute function contractors.keep_contractor();
`

export const businessSchemas = ['lettings', 'repairs', 'contractors', 'safety', 'reference'] as const
