CREATE TABLE "two_way_intent" (
	"once" text PRIMARY KEY NOT NULL,
	"pipeline" text NOT NULL,
	"intent" jsonb NOT NULL,
	"at" timestamp with time zone NOT NULL
);
--> statement-breakpoint
CREATE TABLE "two_way_lane" (
	"pipeline" text NOT NULL,
	"lane" text NOT NULL,
	"digest" text NOT NULL,
	"cursors" jsonb NOT NULL,
	"swept_at" timestamp with time zone,
	CONSTRAINT "two_way_lane_pipeline_lane_pk" PRIMARY KEY("pipeline","lane")
);
--> statement-breakpoint
CREATE TABLE "two_way_pair" (
	"id" text PRIMARY KEY NOT NULL,
	"pipeline" text NOT NULL,
	"lane" text NOT NULL,
	"a" text,
	"b" text,
	"origin" text NOT NULL,
	"halves" jsonb NOT NULL,
	"base" jsonb NOT NULL,
	"state" text NOT NULL,
	"held" jsonb NOT NULL,
	"is_held" boolean NOT NULL,
	"alone" boolean NOT NULL,
	"waits" boolean NOT NULL,
	"label" text,
	"changed_at" timestamp with time zone NOT NULL
);
--> statement-breakpoint
CREATE TABLE "two_way_trail" (
	"id" bigint PRIMARY KEY GENERATED ALWAYS AS IDENTITY (sequence name "two_way_trail_id_seq" INCREMENT BY 1 MINVALUE 1 MAXVALUE 9223372036854775807 START WITH 1 CACHE 1),
	"pipeline" text NOT NULL,
	"at" timestamp with time zone NOT NULL,
	"run" text NOT NULL,
	"lane" text NOT NULL,
	"pair" text NOT NULL,
	"side" text NOT NULL,
	"op" text NOT NULL,
	"record" text,
	"field" text,
	"was" text,
	"became" text,
	"why" text NOT NULL
);
--> statement-breakpoint
ALTER TABLE "errand" ADD COLUMN "two_way" jsonb;--> statement-breakpoint
ALTER TABLE "two_way_intent" ADD CONSTRAINT "two_way_intent_pipeline_pipeline_id_fk" FOREIGN KEY ("pipeline") REFERENCES "public"."pipeline"("id") ON DELETE cascade ON UPDATE no action;--> statement-breakpoint
ALTER TABLE "two_way_lane" ADD CONSTRAINT "two_way_lane_pipeline_pipeline_id_fk" FOREIGN KEY ("pipeline") REFERENCES "public"."pipeline"("id") ON DELETE cascade ON UPDATE no action;--> statement-breakpoint
ALTER TABLE "two_way_pair" ADD CONSTRAINT "two_way_pair_pipeline_pipeline_id_fk" FOREIGN KEY ("pipeline") REFERENCES "public"."pipeline"("id") ON DELETE cascade ON UPDATE no action;--> statement-breakpoint
ALTER TABLE "two_way_trail" ADD CONSTRAINT "two_way_trail_pipeline_pipeline_id_fk" FOREIGN KEY ("pipeline") REFERENCES "public"."pipeline"("id") ON DELETE cascade ON UPDATE no action;--> statement-breakpoint
CREATE INDEX "two_way_intent_pipeline" ON "two_way_intent" USING btree ("pipeline","at");--> statement-breakpoint
CREATE UNIQUE INDEX "two_way_pair_a" ON "two_way_pair" USING btree ("pipeline","lane","a");--> statement-breakpoint
CREATE UNIQUE INDEX "two_way_pair_b" ON "two_way_pair" USING btree ("pipeline","lane","b");--> statement-breakpoint
CREATE INDEX "two_way_pair_held" ON "two_way_pair" USING btree ("pipeline","is_held");--> statement-breakpoint
CREATE INDEX "two_way_pair_waits" ON "two_way_pair" USING btree ("pipeline","lane","waits");--> statement-breakpoint
CREATE INDEX "two_way_trail_pair" ON "two_way_trail" USING btree ("pipeline","pair","id");--> statement-breakpoint
CREATE INDEX "two_way_trail_run" ON "two_way_trail" USING btree ("pipeline","run","id");