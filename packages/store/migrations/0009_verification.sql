CREATE TABLE "difference" (
	"id" bigint PRIMARY KEY GENERATED ALWAYS AS IDENTITY (sequence name "difference_id_seq" INCREMENT BY 1 MINVALUE 1 MAXVALUE 9223372036854775807 START WITH 1 CACHE 1),
	"verification" text NOT NULL,
	"lane" integer NOT NULL,
	"key" text NOT NULL,
	"kind" text NOT NULL,
	"columns" jsonb NOT NULL,
	"repaired_at" timestamp with time zone
);
--> statement-breakpoint
CREATE TABLE "verification" (
	"id" text PRIMARY KEY NOT NULL,
	"pipeline" text NOT NULL,
	"level" text NOT NULL,
	"pace" jsonb NOT NULL,
	"asked_at" timestamp with time zone NOT NULL
);
--> statement-breakpoint
CREATE TABLE "verified_lane" (
	"verification" text NOT NULL,
	"lane" integer NOT NULL,
	"run" text NOT NULL,
	"index" integer NOT NULL,
	"over" boolean DEFAULT false NOT NULL,
	"verified" jsonb NOT NULL,
	CONSTRAINT "verified_lane_verification_lane_pk" PRIMARY KEY("verification","lane")
);
--> statement-breakpoint
ALTER TABLE "errand" ADD COLUMN "repair" jsonb;--> statement-breakpoint
ALTER TABLE "difference" ADD CONSTRAINT "difference_verification_verification_id_fk" FOREIGN KEY ("verification") REFERENCES "public"."verification"("id") ON DELETE cascade ON UPDATE no action;--> statement-breakpoint
ALTER TABLE "verification" ADD CONSTRAINT "verification_pipeline_pipeline_id_fk" FOREIGN KEY ("pipeline") REFERENCES "public"."pipeline"("id") ON DELETE cascade ON UPDATE no action;--> statement-breakpoint
ALTER TABLE "verified_lane" ADD CONSTRAINT "verified_lane_verification_verification_id_fk" FOREIGN KEY ("verification") REFERENCES "public"."verification"("id") ON DELETE cascade ON UPDATE no action;--> statement-breakpoint
CREATE INDEX "difference_lane" ON "difference" USING btree ("verification","lane","id");--> statement-breakpoint
CREATE INDEX "verification_pipeline" ON "verification" USING btree ("pipeline","asked_at");--> statement-breakpoint
CREATE INDEX "verified_lane_run" ON "verified_lane" USING btree ("run","over");