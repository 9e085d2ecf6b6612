/** What Larkmere's administrator has tracked since the beginning of the history: columns by table. */
export const trackedColumns = {
  'lettings.home': ['address', 'bedrooms', 'floor_area', 'rent_band', 'epc_rating', 'amenities', 'key_safe_code'],
  'lettings.tenant': ['full_name', 'date_of_birth', 'phone', 'email'],
  'lettings.tenancy': [
    'home_id',
    'tenant_id',
    'weekly_rent',
    'monthly_rent',
    'service_charge',
    'deposit',
    'status',
    'start_on',
    'end_on',
    'review_date',
    'support_services',
    'officer_id',
    'balance',
    'arrears_status',
    'notes',
  ],
  'lettings.rent_account_entry': ['tenancy_id', 'posted_on', 'kind', 'amount'],
  'lettings.household_member': ['full_name', 'born_on'],
  'repairs.repair_order': [
    'home_id',
    'contractor_id',
    'priority',
    'status',
    'promised_on',
    'completed_on',
    'effective_on',
    'approved_by',
    'approved_limit',
  ],
  'repairs.repair_line': ['job_code', 'quantity', 'unit_price', 'amount'],
  'contractors.contractor': ['name', 'bank_account', 'account_holder', 'insurance_expiry', 'approved_trades', 'status'],
  'contractors.contract_rate': ['rate', 'valid_from', 'valid_until'],
  'contractors.payment': ['amount', 'to_account'],
  'safety.certificate': [
    'home_id',
    'kind',
    'inspected_on',
    'valid_until',
    'engineer',
    'result',
    'findings',
    'entered_on',
  ],
  'reference.rent_band': ['name', 'weekly_figure', 'in_force_from'],
  'reference.officer': ['full_name', 'patch', 'left_on'],
} as const satisfies Record<string, readonly string[]>

export type TrackedTable = keyof typeof trackedColumns

/** Kept as a fingerprint: that it changed, not to what. */
export const fingerprintColumns: ReadonlySet<string> = new Set(['lettings.home.key_safe_code'])

/** What Larkmere's administrator said beyond that a field is tracked, by `table.column`. */
export const fieldRules: Readonly<
  Record<
    string,
    {
      masked?: boolean
      sensitive?: boolean
      reason?: 'asked'
      derivedFrom?: readonly string[]
      lockedForGood?: boolean
    }
  >
> = {
  'lettings.tenant.date_of_birth': { masked: true },
  'lettings.tenancy.weekly_rent': { lockedForGood: true },
  'lettings.tenancy.monthly_rent': { derivedFrom: ['weekly_rent'] },
  'lettings.tenancy.arrears_status': { derivedFrom: ['weekly_rent', 'balance'] },
  'repairs.repair_line.amount': { derivedFrom: ['quantity', 'unit_price'] },
  'contractors.contractor.bank_account': { sensitive: true, reason: 'asked', lockedForGood: true },
  'contractors.contractor.account_holder': { reason: 'asked', lockedForGood: true },
}

/** The key of each table; one has two columns. */
export const keyColumns: Readonly<Record<TrackedTable, readonly string[]>> = {
  'lettings.home': ['id'],
  'lettings.tenant': ['id'],
  'lettings.tenancy': ['id'],
  'lettings.rent_account_entry': ['id'],
  'lettings.household_member': ['tenancy_id', 'place'],
  'repairs.repair_order': ['id'],
  'repairs.repair_line': ['id'],
  'contractors.contractor': ['id'],
  'contractors.contract_rate': ['id'],
  'contractors.payment': ['id'],
  'safety.certificate': ['id'],
  'reference.rent_band': ['code'],
  'reference.officer': ['id'],
}
