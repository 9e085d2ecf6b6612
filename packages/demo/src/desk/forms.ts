/** What the desk shows of each table: columns of its grid and fields of its form. */
export interface DeskTable {
  path: string
  title: string
  table: string
  key: string
  /** SQL after `from`, so that a grid can name what a row refers to. */
  list: string
  columns: readonly { name: string; sql: string }[]
  fields: readonly { column: string; label: string; kind: 'text' | 'long' | 'set' }[]
}

const field = (column: string, label: string, kind: 'text' | 'long' | 'set' = 'text') => ({ column, label, kind })

export const deskTables: readonly DeskTable[] = [
  {
    path: 'tenancies',
    title: 'Tenancies',
    table: 'lettings.tenancy',
    key: 'id',
    list: 'lettings.tenancy t join lettings.home h on h.id = t.home_id join lettings.tenant n on n.id = t.tenant_id',
    columns: [
      { name: 'No.', sql: 't.id' },
      { name: 'Home', sql: 'h.address' },
      { name: 'Tenant', sql: 'n.full_name' },
      { name: 'Weekly rent', sql: 't.weekly_rent' },
      { name: 'Deposit', sql: 't.deposit' },
      { name: 'Status', sql: 't.status' },
    ],
    fields: [
      field('weekly_rent', 'Weekly rent'),
      field('service_charge', 'Service charge'),
      field('deposit', 'Deposit'),
      field('status', 'Status'),
      field('start_on', 'Start'),
      field('end_on', 'End'),
      field('review_date', 'Review date'),
      field('support_services', 'Support services', 'set'),
      field('notes', 'Notes', 'long'),
    ],
  },
  {
    path: 'contractors',
    title: 'Contractors',
    table: 'contractors.contractor',
    key: 'id',
    list: 'contractors.contractor t',
    columns: [
      { name: 'No.', sql: 't.id' },
      { name: 'Name', sql: 't.name' },
      { name: 'Bank account', sql: 't.bank_account' },
      { name: 'Insurance until', sql: 't.insurance_expiry' },
      { name: 'Status', sql: 't.status' },
    ],
    fields: [
      field('name', 'Name'),
      field('bank_account', 'Bank account'),
      field('account_holder', 'Account holder'),
      field('insurance_expiry', 'Insurance until'),
      field('approved_trades', 'Approved trades', 'set'),
      field('status', 'Status'),
    ],
  },
  {
    path: 'homes',
    title: 'Homes',
    table: 'lettings.home',
    key: 'id',
    list: 'lettings.home t',
    columns: [
      { name: 'No.', sql: 't.id' },
      { name: 'Address', sql: 't.address' },
      { name: 'Bedrooms', sql: 't.bedrooms' },
      { name: 'Rent band', sql: 't.rent_band' },
      { name: 'EPC', sql: 't.epc_rating' },
    ],
    fields: [
      field('address', 'Address'),
      field('bedrooms', 'Bedrooms'),
      field('rent_band', 'Rent band'),
      field('epc_rating', 'EPC rating'),
      field('amenities', 'Amenities', 'set'),
      field('key_safe_code', 'Key safe code'),
    ],
  },
]
