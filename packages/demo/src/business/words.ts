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
