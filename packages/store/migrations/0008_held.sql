CREATE TABLE "held" (
	"id" bigint PRIMARY KEY GENERATED ALWAYS AS IDENTITY (sequence name "held_id_seq" INCREMENT BY 1 MINVALUE 1 MAXVALUE 9223372036854775807 START WITH 1 CACHE 1),
	"pipeline" text NOT NULL,
	"table" text NOT NULL,
	"identity" text NOT NULL,
	"key_hash" text NOT NULL,
	"told" jsonb NOT NULL,
	"op" text NOT NULL,
	"position" text NOT NULL,
	"number" integer NOT NULL,
	"committed_at" text,
	"source" jsonb NOT NULL,
	"shaped" jsonb,
	"column" text,
	"reason" text NOT NULL,
	"remedy" text NOT NULL,
	"cause" text NOT NULL,
	"held_at" timestamp with time zone NOT NULL,
	"state" text DEFAULT 'open' NOT NULL,
	"differs" boolean DEFAULT true NOT NULL,
	"closed_at" timestamp with time zone,
	"note" text
);
--> statement-breakpoint
ALTER TABLE "errand" ADD COLUMN "held" jsonb;--> statement-breakpoint
ALTER TABLE "held" ADD CONSTRAINT "held_pipeline_pipeline_id_fk" FOREIGN KEY ("pipeline") REFERENCES "public"."pipeline"("id") ON DELETE cascade ON UPDATE no action;--> statement-breakpoint
CREATE UNIQUE INDEX "held_once" ON "held" USING btree ("pipeline","table","key_hash","position","number");--> statement-breakpoint
CREATE INDEX "held_state" ON "held" USING btree ("state","pipeline","cause");