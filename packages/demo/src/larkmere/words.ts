/** Invented names, streets and trades. Nobody and nowhere in particular. */
export const firstNames = ['Oona', 'Tariq', 'Ishbel', 'Ansel', 'Piet', 'Ruth', 'Maud', 'Idris', 'Fenella', 'Kofi', 'Sanna', 'Bertil', 'Amrit', 'Lowri', 'Nadia', 'Corin', 'Hester', 'Yusuf', 'Greta', 'Emeka', 'Rosalind', 'Tomasz', 'Beatrix', 'Callum', 'Devika', 'Elspeth', 'Faisal', 'Gwenllian', 'Hamza', 'Ingrid', 'Jolyon', 'Katya', 'Leopold', 'Mirembe', 'Niamh', 'Osian', 'Priya', 'Quentin', 'Rhiannon', 'Silas', 'Thandi', 'Ulric', 'Verity', 'Wilfred', 'Xanthe', 'Yara', 'Zeki', 'Agnes', 'Bronwen', 'Cassius'] // prettier-ignore
export const lastNames = ['Marchetti', 'Lindqvist', 'Coombe', 'Duarte', 'Okonjo', 'Adeyemi-Vale', 'Thistlewood', 'Bramhall', 'Nkemelu', 'Farrowby', 'Szymborski', 'Penhallow', 'Achterberg', 'Dunmore', 'Estrella', 'Goldthorpe', 'Halloran', 'Iyer-Shaw', 'Jessop', 'Kettlewell', 'Lanyon', 'Mbeki-Rowe', 'Norcross', 'Ollerton', 'Pemberley', 'Quillfeather', 'Rasmussen', 'Satterthwaite', 'Tregarthen', 'Umarov', 'Vasquez-Hume', 'Winterbourne', 'Yarrow', 'Zelenka', 'Abernethy', 'Birtwhistle', 'Cardew', 'Drummond', 'Eastleigh', 'Fotheringay', 'Garside', 'Hathersage'] // prettier-ignore
export const streets = ['Weir Cottages', 'Sallow Walk', 'Ferry Row', 'Larkmere Rise', 'Tannery Lane', 'Osier Close', 'Millrace Road', 'Heron Court', 'Quarry Bank', 'Saltmarsh Avenue', 'Pound Hill', 'Alder Mews', 'Causeway Terrace', 'Rookery Gardens', 'Lock Keeper’s Yard', 'Withy Street', 'Beacon Crescent', 'Staithe Place'] // prettier-ignore
export const firms = ['Brackwell', 'Hollin & Dale', 'Tidewell', 'Ormsby', 'Garrick & Sons', 'Pellow', 'Wharfside', 'Stourbank', 'Carrow', 'Netherfield', 'Aldous', 'Meresbrook', 'Tarn & Fell', 'Quayle', 'Lowther', 'Scarsdale'] // prettier-ignore
export const firmTrades = [
  'Heating',
  'Roofing',
  'Electrical',
  'Drainage',
  'Joinery',
  'Glazing',
  'Plastering',
  'Grounds',
]
export const trades = ['boilers', 'gas checks', 'radiators', 'drainage', 'roofing', 'gutters', 'wiring', 'fire doors', 'joinery', 'glazing', 'plaster', 'damp'] // prettier-ignore
export const services = ['floating support', 'tenancy sustainment', 'money advice', 'alarm', 'adaptations', 'hospital discharge', 'befriending', 'translation'] // prettier-ignore
export const amenities = ['garden', 'step-free', 'wet room', 'lift', 'parking', 'balcony', 'communal lounge', 'door entry'] // prettier-ignore
export const reviewReasons = ['annual review', 'per phone call', 'letter of the tenant', 'home visit', 'agreed with manager', 'form received'] as const // prettier-ignore
export const noteSentences = ['Prefers letters to calls.', 'Dog in the garden; ring first.', 'Daughter holds a spare key.', 'Asked about a smaller home.', 'Works nights, call after two.', 'Agreed to pay a little extra each week.', 'Support worker visits on Tuesdays.', 'Neighbour complained about noise; spoken to, now quiet.', 'Waiting for an adaptation to the bathroom.', 'Speaks mostly Welsh.', 'Moved furniture for the window fitting.', 'New phone number given at the desk.', 'Refused access twice, third visit agreed.', 'Rent card replaced.', 'Interested in the garden scheme.'] // prettier-ignore
export const repairTexts = ['Boiler loses pressure', 'Gutter blocked', 'Kitchen tap drips', 'Front door sticks', 'Socket sparks', 'Slipped tiles', 'Shower cold', 'Window will not shut', 'Damp in bedroom', 'Fence down', 'Extractor fan noisy', 'Drain smells'] // prettier-ignore
export const findingTexts = ['No defects found.', 'Flue sealed anew; retested, sound.', 'Pipework to hob replaced, pressure test passed.', 'Advised tenant not to cover the vent.', 'Bonding clamp tightened.', 'Smoke alarm replaced during the visit.', 'Casing cracked, to be renewed within the year.'] // prettier-ignore
export const jobCodes = [['B10', 'Boiler service', 'boilers', 84], ['B22', 'Pump renewed', 'boilers', 132], ['D05', 'Drain cleared', 'drainage', 61], ['E14', 'Socket renewed', 'wiring', 47], ['E31', 'Light fitting', 'wiring', 38.5], ['G02', 'Gutter cleared', 'gutters', 55], ['J09', 'Door eased', 'joinery', 42], ['J20', 'Lock renewed', 'joinery', 74], ['P03', 'Plaster patched', 'plaster', 66], ['R11', 'Tiles refixed', 'roofing', 118], ['W07', 'Tap renewed', 'boilers', 58], ['X01', 'Call out', 'grounds', 48]] as const // prettier-ignore
