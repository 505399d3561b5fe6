CREATE TABLE "errand" (
	"id" text PRIMARY KEY NOT NULL,
	"pipeline" text NOT NULL,
	"kind" text NOT NULL,
	"lanes" jsonb NOT NULL,
	"asked_by" text,
	"asked_at" timestamp with time zone NOT NULL,
	"begun_at" timestamp with time zone,
	"state" text DEFAULT 'waiting' NOT NULL,
	"outcome" text,
	"ended_at" timestamp with time zone
);
--> statement-breakpoint
ALTER TABLE "errand" ADD CONSTRAINT "errand_pipeline_pipeline_id_fk" FOREIGN KEY ("pipeline") REFERENCES "public"."pipeline"("id") ON DELETE cascade ON UPDATE no action;--> statement-breakpoint
CREATE INDEX "errand_pipeline" ON "errand" USING btree ("pipeline","asked_at");--> statement-breakpoint
INSERT INTO "errand" ("id", "pipeline", "kind", "lanes", "asked_at")
SELECT md5(random()::text || "id"), "id", 'recopy', "recopy", now() FROM "pipeline" WHERE "recopy" <> '[]'::jsonb;--> statement-breakpoint
ALTER TABLE "pipeline" DROP COLUMN "recopy";