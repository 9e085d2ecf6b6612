export interface DeskField {
  column: string
  label: string
  kind: 'text' | 'long'
  /** Type of the column, for casting what comes from a form. */
  type: string
}

/** What the desk shows of each table: columns of its grid, fields of its form, and lines that belong to it. */
export interface DeskTable {
  path: string
  title: string
  one: string
  table: string
  key: string
  /** SQL after `from`, so that a grid can name what a row refers to. */
  list: string
  columns: readonly { name: string; sql: string }[]
  fields: readonly DeskField[]
  /** Lines shown in the form: their table's path and the column that refers to this one. */
  lines?: { path: string; parentColumn: string }
  /** Reached through its parent's form only. */
  asLines?: boolean
}

const field = (column: string, label: string, type = 'text', kind: DeskField['kind'] = 'text'): DeskField => ({
  column,
  label,
  type,
  kind,
})
const columns = (...pairs: [string, string][]) => pairs.map(([name, sql]) => ({ name, sql }))

export const deskTables: readonly DeskTable[] = [
  {
    path: 'tenancies',
    title: 'Tenancies',
    one: 'Tenancy',
    table: 'lettings.tenancy',
    key: 'id',
    list: 'lettings.tenancy t join lettings.home h on h.id = t.home_id join lettings.tenant n on n.id = t.tenant_id',
    columns: columns(
      ['No.', 't.id'],
      ['Home', 'h.address'],
      ['Tenant', 'n.full_name'],
      ['Weekly rent', 't.weekly_rent'],
      ['Deposit', 't.deposit'],
      ['Balance', 't.balance'],
      ['Status', 't.status'],
    ),
    fields: [
      field('weekly_rent', 'Weekly rent', 'numeric'),
      field('service_charge', 'Service charge', 'numeric'),
      field('deposit', 'Deposit', 'numeric'),
      field('status', 'Status', 'lettings.tenancy_status'),
      field('start_on', 'Start', 'date'),
      field('end_on', 'End', 'date'),
      field('review_date', 'Review date', 'date'),
      field('support_services', 'Support services', 'text[]'),
      field('officer_id', 'Officer', 'int'),
      field('notes', 'Notes', 'text', 'long'),
    ],
    lines: { path: 'account', parentColumn: 'tenancy_id' },
  },
  {
    path: 'tenants',
    title: 'Tenants',
    one: 'Tenant',
    table: 'lettings.tenant',
    key: 'id',
    list: 'lettings.tenant t',
    columns: columns(['No.', 't.id'], ['Name', 't.full_name'], ['Phone', 't.phone'], ['Mail', 't.email']),
    fields: [
      field('full_name', 'Name'),
      field('date_of_birth', 'Date of birth', 'date'),
      field('phone', 'Phone'),
      field('email', 'Mail'),
      field('preferred_contact', 'Prefers'),
    ],
  },
  {
    path: 'homes',
    title: 'Homes',
    one: 'Home',
    table: 'lettings.home',
    key: 'id',
    list: 'lettings.home t',
    columns: columns(
      ['No.', 't.id'],
      ['Address', 't.address'],
      ['Bedrooms', 't.bedrooms'],
      ['Rent band', 't.rent_band'],
      ['EPC', 't.epc_rating'],
    ),
    fields: [
      field('address', 'Address'),
      field('bedrooms', 'Bedrooms', 'smallint'),
      field('floor_area', 'Floor area', 'numeric'),
      field('rent_band', 'Rent band'),
      field('epc_rating', 'EPC rating'),
      field('amenities', 'Amenities', 'text[]'),
      field('key_safe_code', 'Key safe code'),
    ],
  },
  {
    path: 'repairs',
    title: 'Repairs',
    one: 'Repair order',
    table: 'repairs.repair_order',
    key: 'id',
    list: 'repairs.repair_order t join lettings.home h on h.id = t.home_id left join contractors.contractor c on c.id = t.contractor_id',
    columns: columns(
      ['No.', 't.id'],
      ['Home', 'h.address'],
      ['What', 't.description'],
      ['Contractor', 'c.name'],
      ['Status', 't.status'],
      ['Raised', 't.raised_on'],
    ),
    fields: [
      field('priority', 'Priority'),
      field('status', 'Status'),
      field('contractor_id', 'Contractor', 'int'),
      field('promised_on', 'Promised', 'date'),
      field('completed_on', 'Completed', 'date'),
      field('effective_on', 'Effective', 'date'),
      field('approved_by', 'Approved by', 'int'),
      field('approved_limit', 'Approved up to', 'numeric'),
      field('access_notes', 'Access', 'text', 'long'),
    ],
    lines: { path: 'repair-lines', parentColumn: 'order_id' },
  },
  {
    path: 'certificates',
    title: 'Certificates',
    one: 'Certificate',
    table: 'safety.certificate',
    key: 'id',
    list: 'safety.certificate t join lettings.home h on h.id = t.home_id',
    columns: columns(
      ['No.', 't.id'],
      ['Home', 'h.address'],
      ['Kind', 't.kind'],
      ['Inspected', 't.inspected_on'],
      ['Valid until', 't.valid_until'],
      ['Result', 't.result'],
    ),
    fields: [
      field('kind', 'Kind'),
      field('inspected_on', 'Inspected', 'date'),
      field('valid_until', 'Valid until', 'date'),
      field('engineer', 'Engineer'),
      field('result', 'Result'),
      field('findings', 'Findings', 'text', 'long'),
    ],
  },
  {
    path: 'contractors',
    title: 'Contractors',
    one: 'Contractor',
    table: 'contractors.contractor',
    key: 'id',
    list: 'contractors.contractor t',
    columns: columns(
      ['No.', 't.id'],
      ['Name', 't.name'],
      ['Bank account', 't.bank_account'],
      ['Insurance until', 't.insurance_expiry'],
      ['Status', 't.status'],
    ),
    fields: [
      field('name', 'Name'),
      field('bank_account', 'Bank account'),
      field('account_holder', 'Account holder'),
      field('insurance_expiry', 'Insurance until', 'date'),
      field('approved_trades', 'Approved trades', 'text[]'),
      field('status', 'Status'),
    ],
    lines: { path: 'rates', parentColumn: 'contractor_id' },
  },
  {
    path: 'bands',
    title: 'Rent bands',
    one: 'Rent band',
    table: 'reference.rent_band',
    key: 'code',
    list: 'reference.rent_band t',
    columns: columns(
      ['Code', 't.code'],
      ['Name', 't.name'],
      ['Weekly figure', 't.weekly_figure'],
      ['From', 't.in_force_from'],
    ),
    fields: [
      field('name', 'Name'),
      field('weekly_figure', 'Weekly figure', 'numeric'),
      field('in_force_from', 'From', 'date'),
    ],
  },
  {
    path: 'account',
    title: 'Account lines',
    one: 'Account line',
    table: 'lettings.rent_account_entry',
    key: 'id',
    list: 'lettings.rent_account_entry t',
    columns: columns(
      ['No.', 't.id'],
      ['Posted', 't.posted_on'],
      ['Kind', 't.kind'],
      ['Amount', 't.amount'],
      ['Memo', 't.memo'],
    ),
    fields: [
      field('posted_on', 'Posted', 'date'),
      field('kind', 'Kind'),
      field('amount', 'Amount', 'numeric'),
      field('memo', 'Memo'),
    ],
    asLines: true,
  },
  {
    path: 'repair-lines',
    title: 'Repair lines',
    one: 'Repair line',
    table: 'repairs.repair_line',
    key: 'id',
    list: 'repairs.repair_line t',
    columns: columns(
      ['No.', 't.id'],
      ['Job', 't.job_code'],
      ['Quantity', 't.quantity'],
      ['Unit price', 't.unit_price'],
      ['Amount', 't.amount'],
    ),
    fields: [
      field('job_code', 'Job code'),
      field('quantity', 'Quantity', 'numeric'),
      field('unit_price', 'Unit price', 'numeric'),
    ],
    asLines: true,
  },
  {
    path: 'rates',
    title: 'Rates',
    one: 'Rate',
    table: 'contractors.contract_rate',
    key: 'id',
    list: 'contractors.contract_rate t',
    columns: columns(
      ['No.', 't.id'],
      ['Job', 't.job_code'],
      ['Rate', 't.rate'],
      ['From', 't.valid_from'],
      ['Until', 't.valid_until'],
    ),
    fields: [
      field('job_code', 'Job code'),
      field('rate', 'Rate', 'numeric'),
      field('valid_from', 'From', 'date'),
      field('valid_until', 'Until', 'date'),
    ],
    asLines: true,
  },
]

export function deskTable(path: string): DeskTable {
  return deskTables.find((table) => table.path === path)!
}
