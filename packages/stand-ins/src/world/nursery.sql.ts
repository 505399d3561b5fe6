/** The operational database of one site of Osier Valley Growers, and the statements that fill it. */

export const NURSERY_SCHEMA = `
CREATE SCHEMA nursery;
CREATE SCHEMA "Field Notes";
CREATE TYPE nursery.stage AS ENUM ('sown', 'pricked out', 'potted', 'hardened', 'ready', 'sold');

CREATE TABLE nursery.species (
  species_id int PRIMARY KEY,
  latin_name text NOT NULL,
  common_name text NOT NULL,
  family text NOT NULL,
  hardiness smallint,
  evergreen boolean NOT NULL,
  uses text[]
);
CREATE TABLE nursery.beds (
  bed_id int PRIMARY KEY,
  house text NOT NULL,
  row_no int NOT NULL,
  area_m2 numeric(8,2) NOT NULL,
  heated boolean NOT NULL
);
CREATE TABLE nursery.batches (
  batch_id int PRIMARY KEY,
  species_id int NOT NULL REFERENCES nursery.species,
  bed_id int NOT NULL REFERENCES nursery.beds,
  stage nursery.stage NOT NULL,
  quantity int NOT NULL,
  losses int NOT NULL DEFAULT 0,
  sown_on date NOT NULL,
  label uuid NOT NULL DEFAULT gen_random_uuid(),
  updated_at timestamptz NOT NULL DEFAULT now()
);
CREATE TABLE nursery.inspections (
  inspection_id int PRIMARY KEY,
  batch_id int NOT NULL REFERENCES nursery.batches,
  inspector text NOT NULL,
  inspected_at timestamptz NOT NULL,
  grade char(1),
  vigour double precision,
  remarks text,
  photo bytea,
  marks jsonb
);
CREATE TABLE nursery.readings (
  reading_id bigint PRIMARY KEY,
  bed_id int NOT NULL REFERENCES nursery.beds,
  read_at timestamptz NOT NULL,
  temperature numeric(5,2),
  moisture numeric(6,2),
  light real,
  sensor text NOT NULL
);
CREATE TABLE nursery.dispatches (
  dispatch_id int PRIMARY KEY,
  club text NOT NULL,
  contact_mail text NOT NULL,
  dispatched_on date NOT NULL,
  carrier text,
  paid boolean NOT NULL DEFAULT false
);
CREATE TABLE nursery.dispatch_lines (
  dispatch_id int NOT NULL REFERENCES nursery.dispatches,
  line_no int NOT NULL,
  species_id int NOT NULL REFERENCES nursery.species,
  plants int NOT NULL,
  unit_price numeric(8,2) NOT NULL,
  PRIMARY KEY (dispatch_id, line_no)
);
CREATE TABLE nursery.price_list (
  species_id int NOT NULL REFERENCES nursery.species,
  pot_size text NOT NULL,
  valid_from date NOT NULL,
  price numeric(10,4) NOT NULL,
  freight_factor numeric,
  PRIMARY KEY (species_id, pot_size, valid_from)
);
CREATE TABLE nursery.watering_rota (
  weekday text NOT NULL,
  house text NOT NULL,
  who text NOT NULL,
  minutes int NOT NULL
);
CREATE TABLE nursery.tmp_import_1 (line text);
CREATE TABLE nursery.tmp_scratch (id int PRIMARY KEY, note text);
CREATE TABLE "Field Notes"."Plot / Row" (
  "Plot No" int PRIMARY KEY,
  "Breite / Länge" text NOT NULL,
  "Note (free)" text
);
CREATE TABLE "Field Notes"."Höhenmessung" (
  id int PRIMARY KEY,
  "Height cm" numeric(6,1) NOT NULL,
  measured date NOT NULL
);
`

/** How many rows each table gets at factor 1. */
export interface SiteSize {
  readings: number
  batches: number
  inspections: number
  dispatches: number
  lines: number
}

export const SITE_SIZE: SiteSize = {
  readings: 200_000,
  batches: 6_000,
  inspections: 15_000,
  dispatches: 9_000,
  lines: 30_000,
}

/**
 * Set-based filling: fast in the embedded database. \`h(i, salt)\` is a hash in [0, 1), so the same seed gives the
 * same site.
 */
export function fillStatements(seed: number, size: SiteSize): string[] {
  const h = (i: string, salt: number) =>
    `(('x' || substr(md5(${i} || '.${seed}.${salt}'), 1, 7))::bit(28)::int / 268435456.0)`
  const pick = (i: string, salt: number, items: string[]) =>
    `(ARRAY[${items.map(item => `'${item}'`).join(',')}])[1 + floor(${h(i, salt)} * ${items.length})::int]`
  const day = (i: string, salt: number, days: number) =>
    `date '2026-11-20' - floor(${h(i, salt)} * ${days})::int`
  return [
    // The rows refer to each other rightly by construction; checking each costs most of the time.
    `SET session_replication_role = replica`,
    `INSERT INTO nursery.species SELECT i,
       ${pick('i', 1, GENERA)} || ' ' || ${pick('i', 2, EPITHETS)} || ' no. ' || i,
       ${pick('i', 3, ADJECTIVES)} || ' ' || ${pick('i', 4, PLANTS)}, ${pick('i', 1, FAMILIES)},
       CASE WHEN i % 11 = 0 THEN NULL ELSE 1 + floor(${h('i', 5)} * 8)::int END, i % 4 = 0,
       CASE WHEN i % 7 = 0 THEN NULL WHEN i % 5 = 0 THEN '{}' ELSE ARRAY[${pick('i', 6, USES)}, ${pick('i', 7, USES)}] END
     FROM generate_series(1, 404) i`,
    `INSERT INTO nursery.beds SELECT i, 'House ' || (1 + i / 12), 1 + i % 12, round((8 + ${h('i', 8)} * 40)::numeric, 2), i % 3 = 0
     FROM generate_series(1, 120) i`,
    `INSERT INTO nursery.batches SELECT i, 1 + floor(${h('i', 9)} * 404)::int, 1 + floor(${h('i', 10)} * 120)::int,
       ${pick('i', 11, STAGES)}::nursery.stage, 20 + floor(${h('i', 12)} * 900)::int, floor(${h('i', 13)} * 20)::int,
       ${day('i', 14, 700)}, md5('batch.${seed}.' || i)::uuid, timestamptz '2026-11-20 06:00+00' - i * interval '7 minutes'
     FROM generate_series(1, ${size.batches}) i`,
    `INSERT INTO nursery.inspections SELECT i, 1 + floor(${h('i', 15)} * ${size.batches})::int, ${pick('i', 16, PEOPLE)},
       timestamptz '2026-11-20 15:00+00' - i * interval '31 minutes', ${pick('i', 17, ['A', 'B', 'B', 'C', 'D'])},
       ${h('i', 18)} * 10, CASE WHEN i % 9 = 0 THEN NULL ELSE repeat(${pick('i', 19, REMARKS)} || ' ', 1 + i % 6) END,
       CASE WHEN i % 50 = 0 THEN decode(repeat(md5(i::text), 16), 'hex') END,
       CASE WHEN i % 4 = 0 THEN jsonb_build_object('leaf', i % 5, 'root', round((${h('i', 20)} * 5)::numeric, 1)) END
     FROM generate_series(1, ${size.inspections}) i`,
    `INSERT INTO nursery.readings SELECT i, 1 + i % 120, timestamptz '2026-11-20 12:00+00' - (${size.readings} - i) * interval '10 minutes',
       round((12 + ${h('i', 21)} * 14)::numeric, 2),
       CASE WHEN i % 40009 = 0 THEN 4150.00 ELSE round((20 + ${h('i', 22)} * 60)::numeric, 2) END,
       (${h('i', 22)} * 900)::real, 'S' || (100 + i % 60)
     FROM generate_series(1, ${size.readings}) i`,
    `INSERT INTO nursery.dispatches SELECT i, ${pick('i', 23, CLUBS)} || ' Garden Club',
       'club' || floor(${h('i', 24)} * 300)::int || '@example.org', ${day('i', 25, 400)},
       CASE WHEN i % 13 = 0 THEN NULL ELSE ${pick('i', 26, ['van', 'rail', 'collected', 'post'])} END, i % 3 <> 0
     FROM generate_series(1, ${size.dispatches}) i`,
    `INSERT INTO nursery.dispatch_lines SELECT 1 + (i - 1) % ${size.dispatches}, 1 + (i - 1) / ${size.dispatches},
       1 + floor(${h('i', 27)} * 404)::int, 1 + floor(${h('i', 28)} * 60)::int, round((1.5 + ${h('i', 29)} * 30)::numeric, 2)
     FROM generate_series(1, ${size.lines}) i`,
    `INSERT INTO nursery.price_list SELECT s, p, date '2026-01-01', round((1 + ${h('s', 30)} * 20)::numeric, 4), 1 + ${h('s', 31)}::numeric
     FROM generate_series(1, 404) s, unnest(ARRAY['9 cm', '2 l', '10 l']) p`,
    `INSERT INTO nursery.watering_rota SELECT d, 'House ' || n, ${pick('(n::text || d)', 32, PEOPLE)}, 20 + n
     FROM unnest(ARRAY['Mon','Tue','Wed','Thu','Fri','Sat','Sun']) d, generate_series(1, 10) n`,
    `INSERT INTO nursery.tmp_import_1 SELECT 'line ' || i FROM generate_series(1, 820) i`,
    `INSERT INTO nursery.tmp_scratch SELECT i, 'scratch' FROM generate_series(1, 12) i`,
    `INSERT INTO "Field Notes"."Plot / Row" SELECT i, (i % 9) || ' / ' || (i % 31), CASE WHEN i % 3 = 0 THEN 'stony' END FROM generate_series(1, 240) i`,
    `INSERT INTO "Field Notes"."Höhenmessung" SELECT i, round((30 + ${h('i', 33)} * 200)::numeric, 1), ${day('i', 34, 300)} FROM generate_series(1, 600) i`,
    'RESET session_replication_role',
    'ANALYZE',
  ]
}

const GENERA = ['Salix', 'Betula', 'Carex', 'Geum', 'Sorbus', 'Viola', 'Alnus', 'Primula', 'Rosa', 'Acer']
const FAMILIES = [
  'Salicaceae',
  'Betulaceae',
  'Cyperaceae',
  'Rosaceae',
  'Rosaceae',
  'Violaceae',
  'Betulaceae',
  'Primulaceae',
  'Rosaceae',
  'Sapindaceae',
]
const EPITHETS = ['alba', 'purpurea', 'montana', 'vulgaris', 'nana', 'rivalis', 'pendula', 'repens']
const ADJECTIVES = ['Early', 'Weeping', 'Grey', 'Dwarf', 'River', 'Golden', 'Late', 'Silver']
const PLANTS = ['willow', 'birch', 'sedge', 'avens', 'rowan', 'violet', 'alder', 'primrose', 'rose', 'maple']
const USES = ['hedge', 'border', 'bog', 'screen', 'cut', 'bees']
const STAGES = ['sown', 'pricked out', 'potted', 'hardened', 'ready', 'sold']
export const PEOPLE = ['Ines Marlowe', 'Tobias Fenn', 'Oda Larch', 'Piet Sandholm', 'Ruth Calder']
export const REMARKS = [
  'Even stand, good colour.',
  'Some mildew at the north end; vents opened.',
  'Roots “well filled”, ready to pot on.',
  'Aphids, treated; look again in a week.',
]
export const CLUBS = [
  'Willowmere',
  'Larkfield',
  'Upper Sedge',
  'Millrace',
  'Thornby',
  'St. Oswin',
  'Eastmarsh',
]
