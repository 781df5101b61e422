// Reviewed by hand: a town of each (its seat, where it has one) first-order division, by ISO 3166-2
// code, where the names alone do not tell. Country -> subdivision -> seat.
export const seats = {
  AU: { ACT: "Canberra", NSW: "Sydney", NT: "Darwin", QLD: "Brisbane", SA: "Adelaide", TAS: "Hobart", VIC: "Melbourne", WA: "Perth" },
  AR: { C: "Buenos Aires", X: "Córdoba", S: "Santa Fe", M: "Mendoza" },
  AT: { 1: "Eisenstadt", 2: "Klagenfurt am Wörthersee", 4: "Linz", 5: "Salzburg", 6: "Graz", 7: "Innsbruck", 8: "Bregenz", 9: "Vienna" },
  BR: {
    AC: "Rio Branco", AL: "Maceió", AM: "Manaus", AP: "Macapá", BA: "Salvador", CE: "Fortaleza", DF: "Brasília", ES: "Vitória",
    GO: "Goiânia", MA: "São Luís", MG: "Belo Horizonte", MS: "Campo Grande", MT: "Cuiabá", PA: "Belém", PB: "João Pessoa",
    PE: "Recife", PI: "Teresina", PR: "Curitiba", RJ: "Rio de Janeiro", RN: "Natal", RO: "Porto Velho", RR: "Boa Vista",
    RS: "Porto Alegre", SC: "Florianópolis", SE: "Aracaju", SP: "São Paulo", TO: "Palmas",
  },
  CA: {
    AB: "Edmonton", BC: "Victoria", MB: "Winnipeg", NB: "Fredericton", NL: "St. John's", NS: "Halifax", NT: "Yellowknife",
    NU: "Iqaluit", ON: "Toronto", PE: "Charlottetown", QC: "Québec", SK: "Regina", YT: "Whitehorse",
  },
  CZ: { 10: "Prague" },
  DE: {
    BB: "Potsdam", BE: "Berlin", BW: "Stuttgart", BY: "Munich", HB: "Bremen", HE: "Wiesbaden", HH: "Hamburg", MV: "Schwerin",
    NI: "Hannover", NW: "Düsseldorf", RP: "Mainz", SH: "Kiel", SL: "Saarbrücken", SN: "Dresden", ST: "Magdeburg", TH: "Erfurt",
  },
  DK: { 81: "Aalborg", 82: "Viborg", 83: "Vejle", 84: "Copenhagen", 85: "Sorø" },
  EE: { 37: "Tallinn", 79: "Tartu" },
  ES: {
    AN: "Sevilla", AR: "Zaragoza", AS: "Oviedo", CB: "Santander", CE: "Ceuta", CL: "Valladolid", CM: "Toledo",
    CN: "Las Palmas de Gran Canaria", CT: "Barcelona", EX: "Mérida", GA: "Santiago de Compostela", IB: "Palma", MC: "Murcia",
    MD: "Madrid", ML: "Melilla", NC: "Pamplona", PV: "Gasteiz / Vitoria", RI: "Logroño", VC: "Valencia",
  },
  FI: { "02": "Lappeenranta", "06": "Hämeenlinna", "08": "Jyväskylä", 10: "Rovaniemi", 11: "Tampere", 14: "Oulu", 15: "Kuopio", 18: "Helsinki", 19: "Turku" },
  FR: {
    ARA: "Lyon", BFC: "Dijon", BRE: "Rennes", CVL: "Orléans", "20R": "Ajaccio", GES: "Strasbourg", HDF: "Lille", IDF: "Paris",
    NAQ: "Bordeaux", NOR: "Rouen", OCC: "Toulouse", PAC: "Marseille", PDL: "Nantes",
  },
  GB: { ENG: "London", NIR: "Belfast", SCT: "Edinburgh", WLS: "Cardiff" },
  GR: {
    A: "Komotiní", B: "Thessaloníki", C: "Kozáni", D: "Ioánnina", E: "Lárisa", F: "Corfu", G: "Pátra", H: "Lamía", I: "Athens",
    J: "Trípoli", K: "Mytilene", L: "Ermoúpolis", M: "Irákleion",
  },
  HU: { BU: "Budapest" },
  IE: { L: "Dublin", M: "Cork", C: "Gaillimh" },
  IN: { DL: "New Delhi", KA: "Bengaluru", KL: "Thiruvananthapuram", MH: "Mumbai", RJ: "Jaipur", TN: "Chennai", UP: "Lucknow", WB: "Kolkata" },
  IT: {
    21: "Turin", 23: "Aosta", 25: "Milan", 32: "Trento", 34: "Venice", 36: "Trieste", 42: "Genoa", 45: "Bologna", 52: "Florence",
    55: "Perugia", 57: "Ancona", 62: "Rome", 65: "L'Aquila", 67: "Campobasso", 72: "Naples", 75: "Bari", 77: "Potenza",
    78: "Catanzaro", 82: "Palermo", 88: "Cagliari",
  },
  JP: {
    "01": "Sapporo", "03": "Morioka", "04": "Sendai", "07": "Fukushima", "08": "Mito", "09": "Utsunomiya", 10: "Maebashi",
    11: "Saitama", 12: "Chiba", 13: "Tokyo", 14: "Yokohama", 17: "Kanazawa", 18: "Fukui-shi", 19: "Kōfu", 21: "Gifu-shi",
    22: "Shizuoka", 23: "Nagoya", 24: "Tsu", 25: "Ōtsu", 26: "Kyoto", 27: "Osaka", 28: "Kobe", 29: "Nara-shi", 32: "Matsue",
    34: "Hiroshima", 35: "Yamaguchi", 36: "Tokushima", 37: "Takamatsu", 38: "Matsuyama", 39: "Kochi", 40: "Fukuoka",
    46: "Kagoshima", 47: "Naha",
  },
  MX: { CMX: "Mexico City", JAL: "Guadalajara", NLE: "Monterrey" },
  NL: {
    DR: "Assen", FL: "Lelystad", FR: "Leeuwarden", GE: "Arnhem", GR: "Groningen", LI: "Maastricht", NB: "'s-Hertogenbosch",
    NH: "Haarlem", OV: "Zwolle", UT: "Utrecht", ZE: "Middelburg",
  },
  NO: { "03": "Oslo", 11: "Stavanger", 15: "Molde", 18: "Bodø", 42: "Kristiansand", 46: "Bergen" },
  NZ: {
    AUK: "Auckland", BOP: "Whakatane", CAN: "Christchurch", GIS: "Gisborne", HKB: "Napier", MBH: "Blenheim", MWT: "Palmerston North",
    NSN: "Nelson", NTL: "Whangarei", OTA: "Dunedin", STL: "Invercargill", TAS: "Richmond", TKI: "New Plymouth", WGN: "Wellington",
    WKO: "Hamilton", WTC: "Greymouth",
  },
  PL: { "02": "Wrocław", 12: "Kraków", 14: "Warsaw", 22: "Gdańsk", 30: "Poznań" },
  PT: { 11: "Lisbon", 20: "Ponta Delgada", 30: "Funchal" },
  SE: {
    AB: "Stockholm", AC: "Umeå", BD: "Luleå", C: "Uppsala", D: "Nyköping", E: "Linköping", F: "Jönköping", G: "Växjö", H: "Kalmar",
    I: "Visby", K: "Karlskrona", M: "Malmö", N: "Halmstad", O: "Göteborg", S: "Karlstad", T: "Örebro", U: "Västerås", W: "Falun",
    X: "Gävle", Y: "Härnösand", Z: "Östersund",
  },
  ZA: {
    EC: "Bhisho", FS: "Bloemfontein", GP: "Johannesburg", KZN: "Pietermaritzburg", LP: "Polokwane", MP: "Nelspruit", NC: "Kimberley",
    NW: "Mahikeng", WC: "Cape Town",
  },
};
