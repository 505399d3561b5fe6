CREATE TABLE "schedule" (
	"id" text PRIMARY KEY NOT NULL,
	"pipeline" text NOT NULL,
	"deed" text NOT NULL,
	"cron" text NOT NULL,
	"zone" text NOT NULL,
	"missed" text NOT NULL,
	"waits_for" jsonb NOT NULL,
	"enabled" boolean NOT NULL,
	"created_at" timestamp with time zone NOT NULL,
	"last_tick" timestamp with time zone,
	"doing" jsonb,
	"outcome" jsonb
);
--> statement-breakpoint
ALTER TABLE "schedule" ADD CONSTRAINT "schedule_pipeline_pipeline_id_fk" FOREIGN KEY ("pipeline") REFERENCES "public"."pipeline"("id") ON DELETE cascade ON UPDATE no action;--> statement-breakpoint
CREATE INDEX "schedule_pipeline" ON "schedule" USING btree ("pipeline","created_at");